"""Simulated takes as a study, for measuring judgement without a database."""

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path

from arkund.core.advise.start import first_sheet
from arkund.core.advise.study import Study, TakeFacts
from arkund.core.align.pairs import Pair
from arkund.core.align.takes import align_take
from arkund.core.hits.detect import detect_hits
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.levels import measure_mic
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.sheet import Section, Source, Take
from arkund.core.sheet.tempo import Tempo
from arkund.core.simulate.session import Session, write_session


def study_of(
    sessions: Sequence[Session], folder: Path, known: Mapping[int, TakeFacts] | None = None
) -> Study:
    """The takes written to ``folder`` and analysed as an import does; the first sounds.

    ``known`` are facts, by a take's number, that need not be worked out again.
    """
    takes, facts, paths, hits_by_hash = [], {}, {}, {}
    for session in sessions:
        target = folder / f"take {session.take}"
        write_session(
            Session(session.preset, session.rate, session.mics, {}, session.truth, session.take),
            target,
        )
        own = (known or {}).get(session.take) or facts_of(session)
        hits_hash = hashlib.sha256(f"hits {session.take}".encode()).hexdigest()
        hits_by_hash[hits_hash] = own.hits
        sources = {}
        for mic in session.mics:
            sha = hashlib.sha256(f"{session.take} {mic}".encode()).hexdigest()
            paths[sha] = target / session.preset.files[mic]
            sources[mic] = Source(sha256=sha)
        facts[session.take] = own
        takes.append(Take(number=session.take, sources=sources, hits=hits_hash))
    truth = sessions[0].truth
    sheet = first_sheet(
        rate=sessions[0].rate,
        frames=truth["frames"],
        tempo=Tempo(bpm=truth["tempo_bpm"], first_downbeat_s=truth["first_downbeat_s"]),
        sections=tuple(Section(**s) for s in truth["sections"]),
        takes=tuple(takes),
        files={m: sessions[0].preset.files[m] for m in sessions[0].mics},
        typical_db={m: v["typical_hit_dbfs"] for m, v in facts[takes[0].number].measures.items()},
    )
    library = Library(path_of=lambda sha: paths[sha], hits_of=lambda digest: hits_by_hash[digest])
    cache = TileCache()
    engine = Engine(sheet.rate, sheet.frames, cache, sources=cache.sources)
    return Study(sheet, engine, library, facts)


def facts_of(session: Session) -> TakeFacts:
    """What an import hears in a take: its hits, its pairs of mics and each mic's measures."""
    hits = detect_hits(session.mics, session.rate)
    measures = {}
    for mic, sound in session.mics.items():
        piece = parse_mic_name(mic).piece
        onsets = [h.time_s for h in hits if h.piece == piece]
        measures[mic] = measure_mic(sound, session.rate, onsets).as_dict()
    pairs = [pair_facts(asdict(p)) for p in align_take(session.mics, hits, session.rate)]
    return TakeFacts(hits, pairs, measures)


def pair_facts(values: dict[str, object]) -> Pair:
    """A `Pair` of an alignment's fields, its curve left out."""
    return Pair(**{k: v for k, v in values.items() if k not in ("lags", "curve")})  # type: ignore[arg-type]
