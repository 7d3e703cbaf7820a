"""What was measured of takes moves from tables into files that the sheets name by content hash."""

import json
import zlib

from django.db import migrations


def name_analyses(apps, schema_editor):
    """Store each take's analysis and name it in every revision's sheet."""
    for song in apps.get_model("songs", "Song").objects.all():
        digests = {take.number: _stored(take) for take in song.takes.all()}
        for revision in song.revisions.all():
            sheet = json.loads(zlib.decompress(revision.document))
            for take in sheet["takes"]:
                take["analysis"] = digests.get(take["number"])
            text = json.dumps(sheet, sort_keys=True, separators=(",", ":"))
            revision.document = zlib.compress(text.encode())
            revision.save(update_fields=["document"])


def _stored(take):
    # Loaded here: every command reads this file, few run it.
    from arkund.songs import storage

    files = list(take.files.all())
    return storage.store_analysis(
        {
            "pairs": take.pairs,
            "measures": {f.mic: f.measures for f in files},
            "files": {f.mic: f.file_name for f in files},
            "heard": {},
        }
    )


class Migration(migrations.Migration):

    dependencies = [
        ('songs', '0002_findings'),
    ]

    operations = [
        migrations.RunPython(name_analyses),
        migrations.DeleteModel(name='MicFile'),
        migrations.DeleteModel(name='Take'),
    ]
