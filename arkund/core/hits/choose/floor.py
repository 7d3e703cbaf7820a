"""The floor under detection: hits that a drum's own mic shows beyond what bleed can reach there.

What stands far above all bleed that any path predicts (`explain.reach`) is a hit, whatever any model says.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.reach import Reach, excesses_db
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hear.onsets import FRAME_S
from arkund.core.hits.hit import Hit, hit_id, kind_of, velocity_of
from arkund.core.kit.roles import piece_family

OVER_DB = {"tom": 7.0}
OTHERS_OVER_DB = 10.0
"""How far above all predicted bleed an onset is taken for the drum's own, by family. (Of tom onsets
beyond it, on 44 worlds of three sources, 94 in 100 were hits.)"""

WITHIN_DB = {"tom": 18.0}
OTHERS_WITHIN_DB = 9.0
"""A hit so far under the drum's loudest is left to finer judgement, by family: a kick's beater that
bounces stands as clear as a hit."""

FAINT_DB = 15.0
"""A hit is at least so far above the mic's noise."""


@dataclass(frozen=True)
class Clear:
    """A hit that stands clear: its time in s, its excess over predicted bleed in dB, and its level in
    dB against the loudest such one."""

    time_s: float
    excess_db: float
    level_db: float


def clear_hits(reach: Reach, wanted: Sequence[str]) -> dict[str, list[Clear]]:
    """For each ``wanted`` piece the hits that no bleed can explain, in order of time."""
    return {name: _clear(reach, reach.names.index(name)) for name in wanted if name in reach.names}


def added_to(
    hits: Sequence[Hit],
    reach: Reach,
    close: Mapping[str, NDArray[np.float32]],
    rate: int,
    wanted: Sequence[str],
) -> list[Hit]:
    """The list with the clear hits that it lacks: none within `SAME_S` of them. Sorted by time.

    A drum that has no other hit is only believed to be hit where one of its clear hits stands out by
    `ANCHOR_DB`; else its moments are for an ear to judge (`moments`).
    """
    out = list(hits)
    for piece, clear in clear_hits(reach, wanted).items():
        own = [h for h in hits if h.piece == piece]
        if not own and max((one.excess_db for one in clear), default=0.0) < ANCHOR_DB:
            continue
        known = np.array([h.time_s for h in own])
        levels = {h.time_s: h.level_db for h in own}
        shift_db = _shift_db(clear, known, levels)
        for one in clear:
            if np.abs(known - one.time_s).min(initial=np.inf) > SAME_S:
                out.append(_as_hit(piece, one, close[piece], rate, shift_db))
    return sorted(out, key=lambda h: (h.time_s, h.piece))


SAME_S = 0.025
ANCHOR_DB = 12.0
SURE, SUREST, SUREST_DB = 0.92, 0.99, 20.0
"""How sure a clear hit is at the least, and at the most: from so many dB of excess on."""


def _shift_db(
    clear: Sequence[Clear], known: NDArray[np.float64], levels: Mapping[float, float]
) -> float:
    """What is added to a clear hit's level so that it is measured as listed ones are: against the
    piece's loud hits. 0 where none of them is listed."""
    both = []
    for one in clear:
        if len(known) and np.abs(known - one.time_s).min() <= SAME_S:
            nearest = float(known[np.argmin(np.abs(known - one.time_s))])
            both.append(levels[nearest] - one.level_db)
    return float(np.median(both)) if both else 0.0


def _as_hit(piece: str, one: Clear, sound: NDArray[np.float32], rate: int, shift_db: float) -> Hit:
    begin = round((one.time_s - PLACE_S[0]) * rate)
    around = sound[max(begin, 0) : round((one.time_s + PLACE_S[1]) * rate)]
    at = first_arrival(around, 0, len(around), round(0.0014 * rate))
    time_s = round((max(begin, 0) + float(at)) / rate, 6)
    level_db = round(one.level_db + shift_db, 2)
    share = min(max(one.excess_db, 0.0) / SUREST_DB, 1.0)
    return Hit(
        id=hit_id(piece, time_s),
        piece=piece,
        time_s=time_s,
        velocity=velocity_of(level_db),
        kind=kind_of(level_db),
        confidence=round(SURE + (SUREST - SURE) * share, 3),
        level_db=level_db,
    )


PLACE_S = (0.004, 0.008)
"""Where a hit's first arrival is looked for around the frame in which it rises."""


def _clear(reach: Reach, p: int) -> list[Clear]:
    own, family = reach.found[p], piece_family(reach.names[p])
    over_db = OVER_DB.get(family, OTHERS_OVER_DB)
    within_db = WITHIN_DB.get(family, OTHERS_WITHIN_DB)
    if not len(own.at):
        return []
    excess = excesses_db(reach, p)
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    noise_db = 20 * np.log10(max(float(np.median(reach.peaks[p])), 1e-7))
    is_clear = (excess >= over_db) & (level_db >= noise_db + FAINT_DB)
    if not is_clear.any():
        return []
    loudest = float(level_db[is_clear].max())
    is_clear &= level_db >= loudest - within_db
    return [
        Clear(float(at * FRAME_S), float(e), float(level - loudest))
        for at, e, level in zip(own.at[is_clear], excess[is_clear], level_db[is_clear], strict=True)
    ]
