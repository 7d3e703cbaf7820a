from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0006_no_heartbeat")]

    operations = [
        migrations.AddField("song", "removed", models.DateTimeField(null=True)),
    ]
