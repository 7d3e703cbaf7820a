from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0007_bin")]

    operations = [
        migrations.CreateModel(
            "OwnChain",
            [
                ("id", models.BigAutoField(primary_key=True, serialize=False)),
                ("name", models.CharField(max_length=40, unique=True)),
                ("piece", models.CharField(max_length=40)),
                ("landmarks", models.JSONField()),
                ("stages", models.JSONField()),
            ],
            {"ordering": ("name",)},
        ),
    ]
