from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("songs", "0005_stock")]

    operations = [migrations.RemoveField("job", "heartbeat")]
