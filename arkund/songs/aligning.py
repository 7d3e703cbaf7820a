"""Align on a stored song: one solution for the whole kit, and what pairs make of it."""

from dataclasses import asdict
from typing import Any

from arkund.core.advise.align import solved
from arkund.core.align.pairs import Pair
from arkund.core.align.solving import centre_of
from arkund.core.align.sums import BANDS_HZ, notches_hz, sums_of
from arkund.core.errors import ArkundError
from arkund.core.measure.landmarks import roomy
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import samples_to_cm, samples_to_ms
from arkund.songs import findings, revisions
from arkund.songs.facts import hits_of
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import engine_for, graph_of

ROLES = {"snare_centre": "overhead", "snare_centre_rooms": "room"}


def solve(song: Song, onto: str = "overheads") -> dict[str, Any]:
    """Delays in samples that bring all close mics onto the overheads, or the mics of kick and of
    snare onto each other (``onto`` *pairs*); what is left of each pair; and the snare's centre in
    overheads and rooms as they stand."""
    study = findings.study_of_song(song)
    found = solved.solution(study, onto)
    rate = study.rate
    stand = {m: study.sheet.mics[m].delay_samples for m in study.mics}
    out: dict[str, Any] = {
        "onto": onto,
        "school": findings.school_of_song(song).alignment,
        "shifts": dict(found.shifts),
        "residuals": [asdict(r) for r in found.residuals],
    }
    for key, role in ROLES.items():
        centre = centre_of(study.facts.pairs, "snare", role, stand)
        out[key] = centre and {
            **asdict(centre),
            "ms": round(samples_to_ms(centre.samples, rate), 3),
            "cm": round(samples_to_cm(centre.samples, rate), 1),
        }
    return out


def apply(song: Song, onto: str = "overheads") -> Revision:
    """Keep the whole solution of `solve` as one revision; raise `ArkundError` where it asks for nothing."""
    shifts = solved.solution(findings.study_of_song(song), onto).shifts
    assert song.current is not None
    sheet = song.current.sheet
    patch = {
        f"mics.{mic}.delay_samples": round(shift, 1)
        for mic, shift in shifts.items()
        if round(shift, 1) != sheet.mics[mic].delay_samples
    }
    if not patch:
        raise ArkundError("All mics are already aligned: there is nothing to move.")
    label = f"{len(patch)} mics moved onto the {'overheads' if onto == 'overheads' else 'latest'}"
    return revisions.keep(song.pk, song.current.number, patch, label=label, station="align")


def wanted_delay(song: Song, mic: str) -> float | None:
    """Where the song's school has a close mic; None where it leaves it."""
    alignment = findings.school_of_song(song).alignment
    shifts = solved.solution(findings.study_of_song(song), alignment).shifts
    return round(shifts[mic], 1) if mic in shifts else None


def room_question(song: Song, mic: str) -> dict[str, Any] | None:
    """Of a room's mic how far behind the overheads it stands now, and how the song's school answers
    whether rooms are drawn in; None for other mics."""
    study = findings.study_of_song(song)
    if study.sheet.mics[mic].role != "room":
        return None
    found = solved.behind_overheads(study, mic)
    left = None if found is None else found[0] + study.sheet.mics[mic].delay_samples
    return {
        "answer": findings.school_of_song(song).rooms,
        "ms": None if left is None else round(samples_to_ms(left, study.rate), 1),
        "m": None if left is None else round(samples_to_cm(left, study.rate) / 100, 1),
        "drawn_in": None if found is None else -round(found[0], 1),
    }


def sums_of_pair(sheet: Sheet, pair: Pair) -> dict[str, Any] | None:
    """What a pair's two mics make of their piece by band: as recorded, flipped, shifted into step,
    and both; and where they cancel with the delay and polarity that the sheet has now."""
    engine, graph, mics = engine_for(sheet), graph_of(sheet), sheet.mics
    times = roomy(
        [h.time_s for h in hits_of(sheet) if h.piece == pair.piece and h.kind != "ghost"], 0.12
    )
    mic, reference = (
        engine.read(graph.mics[m].source, 0, sheet.frames) for m in (pair.mic, pair.reference)
    )
    found = sums_of(mic, reference, sheet.rate, times, -pair.delay_samples)
    if found is None:
        return None
    left = pair.delay_samples + mics[pair.mic].delay_samples - mics[pair.reference].delay_samples
    same = pair.polarity * mics[pair.mic].polarity * mics[pair.reference].polarity
    return {
        "bands": [[round(low), round(high)] for low, high in BANDS_HZ],
        "rows": [[name, list(values)] for name, values in found.by_name().items()],
        "notches_hz": notches_hz(left, sheet.rate, same),
        "apart_ms": round(abs(samples_to_ms(left, sheet.rate)), 2),
    }
