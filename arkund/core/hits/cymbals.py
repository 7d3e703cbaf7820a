"""Cymbals that only the overheads hear, told apart.

`detect` finds what rings in the overheads and no piece with a mic accounts for. Which cymbal it
was is told by how it is played and where it stands: a ride is struck again and again, a crash
once in a while and harder; two crashes hang on two sides. What fits neither is left a cymbal.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

RIDDEN_S = 0.9
"""Strokes of a ridden cymbal mostly follow one another within this time."""

LEAST_RIDDEN = 4
LOUDER_DB = 5.0
"""How much louder than those that it stands among a crash is in a run of a ridden cymbal."""

FURTHEST_DB = 12.0
"""Further to one side is no further, for there another's ring hides it."""

SOFT_DB = -6.0
"""Level under which a stroke that is not ridden is no crash; of the loudest few."""

APART_DB = 4.0
"""Difference of their places from which two crashes are told apart."""


def tell_apart(
    times_s: Sequence[float], level_db: NDArray[np.float64], place_db: NDArray[np.float64],
    with_snare: NDArray[np.bool_], has_ride: bool, has_crash: bool,
) -> list[str]:  # fmt: skip
    """Piece of each stroke of a cymbal without a mic: ``ride``, ``crash_1``, ``crash_2`` or
    ``cymbal``.

    ``times_s`` ascend; ``level_db`` is the strokes' level, ``place_db`` how much louder the left
    overhead hears each than the right, 0 where there is one; those ``with_snare`` may seem louder
    than they are. ``has_ride`` and ``has_crash`` say which of the two have mics of their own.
    """
    times = np.asarray(times_s)
    if len(times) == 0:
        return []
    place = np.clip(place_db, -FURTHEST_DB, FURTHEST_DB)
    ridden = np.zeros(len(times), bool)
    for run in np.split(np.arange(len(times)), np.flatnonzero(np.diff(times) > RIDDEN_S) + 1):
        if len(run) >= LEAST_RIDDEN:
            usual = np.median(level_db[run[~with_snare[run]]] if (~with_snare[run]).any()
                              else level_db[run])  # fmt: skip
            ridden[run] = with_snare[run] | (level_db[run] < usual + LOUDER_DB)
    names = np.full(len(times), "cymbal", dtype=object)
    soft = level_db < np.sort(level_db)[-4:].mean() + SOFT_DB
    if ridden.any():
        ridden |= soft
    if not has_ride:
        names[ridden] = "ride"
    if not has_crash:
        single = ~ridden & ~soft
        names[single] = _crashes(place[single])
    return [str(n) for n in names]


def _crashes(place_db: NDArray[np.float64]) -> list[str]:
    """``crash_1``, and ``crash_2`` for the one further right where two places stand out."""
    if len(place_db) < 4:
        return ["crash_1"] * len(place_db)
    order = np.sort(place_db)
    gaps = np.diff(order)
    at = int(np.argmax(gaps))
    if gaps[at] < APART_DB or min(at + 1, len(order) - at - 1) < 2:
        return ["crash_1"] * len(place_db)
    border = (order[at] + order[at + 1]) / 2
    return ["crash_1" if p > border else "crash_2" for p in place_db]
