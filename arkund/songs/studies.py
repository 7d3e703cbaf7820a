"""Stored songs under study: a sheet with its takes' hits, pairs and measures."""

from arkund.core.advise.study import Study, TakeFacts
from arkund.core.render.engine import Engine
from arkund.core.sheet.sheet import Sheet
from arkund.songs import storage
from arkund.songs.analysed import NOT_THERE, analysis_of
from arkund.songs.rendering import engine_for


def study_of(sheet: Sheet, engine: Engine | None = None) -> Study:
    """A sheet under study, its sound rendered by ``engine`` (by default one of its own)."""
    facts = {}
    for take in sheet.takes:
        hits = storage.load_hits(take.hits) if take.hits else ()
        analysis = analysis_of(take)
        measures = {mic: analysis.measures.get(mic, NOT_THERE) for mic in sheet.mics}
        facts[take.number] = TakeFacts(hits, analysis.pairs, measures)
    return Study(sheet, engine or engine_for(sheet), storage.library(), facts)
