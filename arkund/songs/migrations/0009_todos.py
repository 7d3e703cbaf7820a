import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("songs", "0008_own_chains")]

    operations = [
        migrations.CreateModel(
            "Todo",
            [
                (
                    "id",
                    models.BigAutoField(
                        auto_created=True, primary_key=True, serialize=False, verbose_name="ID"
                    ),
                ),
                ("number", models.PositiveIntegerField()),
                ("text", models.CharField(max_length=300)),
                ("mic", models.CharField(blank=True, max_length=40)),
                ("bar", models.PositiveIntegerField(null=True)),
                ("created", models.DateTimeField(auto_now_add=True)),
                ("done", models.DateTimeField(null=True)),
                (
                    "song",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="todos",
                        to="songs.song",
                    ),
                ),
            ],
            {"ordering": ("number",)},
        ),
        migrations.AddConstraint(
            "Todo",
            models.UniqueConstraint(fields=("song", "number"), name="one_todo_a_number"),
        ),
    ]
