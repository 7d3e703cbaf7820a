from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0003_analyses")]

    operations = [
        migrations.AddField("job", "owner", models.CharField(blank=True, max_length=80)),
        migrations.AddField("job", "attempts", models.PositiveSmallIntegerField(default=0)),
    ]
