from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0004_owned_jobs")]

    operations = [
        migrations.CreateModel(
            name="SampleSet",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False)),
                ("name", models.CharField(max_length=60, unique=True)),
                ("piece", models.CharField(max_length=40)),
                ("sound", models.CharField(max_length=64)),
                ("rate", models.PositiveIntegerField()),
                ("samples", models.JSONField()),
                ("origin", models.CharField(max_length=200)),
                ("created", models.DateTimeField(auto_now_add=True)),
            ],
            options={"ordering": ("piece", "name")},
        ),
    ]
