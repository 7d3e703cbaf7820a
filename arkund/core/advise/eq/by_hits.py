"""A boost that stands, beside one that comes with this drum's hits alone: what each does to the bleed."""

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from arkund.core.advise.eq.bands import Place
from arkund.core.advise.finding import Change, Way, spoken
from arkund.core.advise.study import Study
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.hits import HitSpectrum, hit_spectrum
from arkund.core.sheet.lanes import HITS

THRESHOLD_DB, RATIO, ATTACK_MS, RELEASE_MS = -30.0, 10.0, 0.5, 60.0
"""A hit of the softest accent opens the band wholly, a ghost in part; it is shut before the next cymbal."""

LEAST_LIFT_DB, LEAST_SPARED_DB = 1.0, 1.0
"""Less bleed than this nobody minds, and less gained is no reason for another band."""


APART_S, FEWEST = (0.2, 0.35), 4
"""Bleed is measured where this drum was not hit so long before nor after, if there are so many places."""


MEASURED = 32
"""So many hits, and so many of others, say what a band does."""


class Lift(NamedTuple):
    """By how many dB hits and bleed are louder at a place behind the EQ."""

    hits_db: float
    bleed_db: float


def by_hits_patch(study: Study, mic: str, place: Place, patch: Mapping[str, Any]) -> dict[str, Any]:
    """The band of ``patch`` as one that moves with its drum's hits; empty where its EQ listens to
    something else already."""
    eq_path = place.path.rpartition(".bands.")[0]
    stage_id = eq_path.rpartition(".")[2]
    piece = parse_mic_name(mic).piece or ""
    stage = next((s for s in study.sheet.mics[mic].chain if s.id == stage_id), None)
    key = stage.listens if stage else None
    if key is not None and key.source not in ("", f"{piece}{HITS}"):
        return {}
    moved = {k: v for k, v in patch.items() if not k.endswith(".gain_db")}
    return {
        **moved,
        f"{place.path}.gain_db": 0.0,
        f"{place.path}.range_db": patch[f"{place.path}.gain_db"],
        f"{place.path}.hears": "key",
        f"{place.path}.threshold_db": THRESHOLD_DB,
        f"{place.path}.ratio": RATIO,
        f"{place.path}.attack_ms": ATTACK_MS,
        f"{place.path}.release_ms": RELEASE_MS,
        f"{eq_path}.key.source": f"{piece}{HITS}",
    }


def lift(study: Study, mic: str, patch: Mapping[str, Any], hz: float) -> Lift:
    """What a patch adds at ``hz`` to a mic's hits and to what else it hears, measured on the sound."""
    piece = parse_mic_name(mic).piece
    times = study.plain_times(mic)
    others = _some(_apart([h.time_s for h in study.hits if h.piece != piece], times))
    own = _some(times)

    def heard(at: Study) -> HitSpectrum:
        return hit_spectrum(at.sound(mic, "equalised"), study.rate, own, others)

    # One for the boost that stands and for the one that moves.
    before: HitSpectrum = study.remember(("before a lift", mic), lambda: heard(study))
    after = heard(study.tried(dict(patch)))
    at = int(np.argmin(np.abs(before.hz - hz)))
    return Lift(
        float(after.hits_db[at] - before.hits_db[at]),
        float(after.bleed_db[at] - before.bleed_db[at]),
    )


def _some(times: Sequence[float]) -> list[float]:
    """At most `MEASURED` of them, evenly chosen."""
    step = -(-len(times) // MEASURED) or 1
    return list(times[::step])


def _apart(others: Sequence[float], own: Sequence[float]) -> list[float]:
    """Those of other hits in whose sound no hit of this drum is heard; all where too few are."""
    known = np.sort(np.asarray(own, np.float64))
    free = [
        t
        for t in others
        if np.searchsorted(known, t - APART_S[0]) == np.searchsorted(known, t + APART_S[1])
    ]
    return free if len(free) >= FEWEST else list(others)


def spared(
    study: Study, mic: str, place: Place, patch: Mapping[str, Any], hz: float
) -> tuple[Lift, Way | None]:
    """What a boost that stands lifts, and the way that comes with hits alone, where it spares bleed."""
    still = lift(study, mic, patch, hz)
    moved = by_hits_patch(study, mic, place, patch)
    if still.bleed_db < LEAST_LIFT_DB or not moved:
        return still, None
    by_hits = lift(study, mic, moved, hz)
    if by_hits.bleed_db > still.bleed_db - LEAST_SPARED_DB:
        return still, None
    words = (
        f"With this drum's hits alone: {by_hits.hits_db:+.1f} dB on them and "
        f"{by_hits.bleed_db:+.1f} dB on the bleed, instead of {still.bleed_db:+.1f}."
    )
    gain = {
        "band_db": Change(0.0, round(by_hits.hits_db, 1)),
        "bleed_lift_db": Change(round(still.bleed_db, 1), round(by_hits.bleed_db, 1)),
    }
    return still, Way("with its hits", spoken(words), moved, gain)
