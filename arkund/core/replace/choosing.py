"""Which sample a hit gets, and how loud: velocity layers, round robin, velocity following."""

from collections.abc import Sequence
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

LOUD_PERCENT = 95

NEAREST = 3
"""A hit chooses among so many samples that come nearest to it in level."""


def choose(hits_db: Sequence[float], samples_db: Sequence[float]) -> list[int]:
    """A sample for each hit by level: of the `NEAREST` ones the one that has waited longest, so
    that none plays twice running where there are two.

    Levels in dB on one scale. Raises `ValueError` without samples.
    """
    if not samples_db:
        raise ValueError("a layer needs a sample")
    used = [-1] * len(samples_db)
    out: list[int] = []
    for turn, level in enumerate(hits_db):
        near = sorted(range(len(samples_db)), key=lambda n: abs(samples_db[n] - level))[:NEAREST]
        if out and len(samples_db) > 1:
            near = [n for n in near if n != out[-1]]
        chosen = min(near, key=lambda n: (used[n], abs(samples_db[n] - level)))
        used[chosen] = turn
        out.append(chosen)
    return out


def at_the_drum_s_level(hits_db: Sequence[float], samples_db: Sequence[float]) -> list[float]:
    """Levels of samples from elsewhere on the scale of a drum's hits, in dB: the loudest sample belongs to
    the drum's loud hits (`LOUD_PERCENT` of them are no louder), however loud either was recorded."""
    top = float(np.percentile(hits_db, LOUD_PERCENT))
    return [level + top - max(samples_db) for level in samples_db]


Level = TypeVar("Level", float, NDArray[np.float64])


def gain_db(hit_db: Level, sample_db: Level, typical_db: float, following: float) -> Level:
    """Gain of a sample under a hit, or of one each: at ``following`` 1 its peak comes to the hit's, at 0 to
    the typical hit's, between in proportion (all in dB)."""
    return typical_db + following * (hit_db - typical_db) - sample_db
