"""Stored songs under study: a sheet with its takes' hits, pairs and measures."""

from arkund.core.advise.study import Study, TakeFacts
from arkund.core.align.pairs import Pair
from arkund.core.mix.sheet import Sheet
from arkund.songs import storage
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for


def study_of(song: Song, sheet: Sheet) -> Study:
    """A song under study at a sheet."""
    facts = {}
    for row in song.takes.prefetch_related("files").all():
        listed = next((t for t in sheet.takes if t.number == row.number), None)
        if listed is None:
            continue
        hits = storage.load_hits(listed.hits) if listed.hits else ()
        measures = {f.mic: f.measures for f in row.files.all()}
        facts[row.number] = TakeFacts(hits, [Pair(**p) for p in row.pairs], measures)
    return Study(sheet, engine_for(sheet), storage.library(), facts)
