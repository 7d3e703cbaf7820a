import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0009_todos")]

    operations = [
        migrations.CreateModel(
            "Snapshot",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("name", models.CharField(max_length=60)),
                ("created", models.DateTimeField(auto_now_add=True)),
                (
                    "revision",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="+",
                        to="songs.revision",
                    ),
                ),
                (
                    "song",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="snapshots",
                        to="songs.song",
                    ),
                ),
            ],
            {"ordering": ("-created", "-pk")},
        ),
        migrations.AddConstraint(
            "Snapshot",
            models.UniqueConstraint(fields=("song", "name"), name="one_snapshot_a_name"),
        ),
    ]
