"""The moments of a mic at which its drum may be hit, when no hit of it is known: for an ear to judge."""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hear.novelty import band_energy, candidates
from arkund.core.hits.hit import Hit
from arkund.core.measure.levels import hit_peaks
from arkund.core.units import amplitudes_to_db

RISE_DB = 6.0
"""How far a moment stands above what sounded just before."""

APART_S = 0.08
NEAR_S = (0.03, 0.02)
"""A hit so long before a moment, or so little after it, leaves its bleed there."""

FEWEST = 3
"""Hits of another piece from which on it is known what they usually leave in the mic."""


class Moment(NamedTuple):
    """A moment: its time in s, its peak in dBFS, and by how many dB it exceeds what the hits around it
    usually leave in this mic (or the mic's own floor, where nothing else is hit)."""

    time_s: float
    level_dbfs: float
    over_db: float


def loudest_moments(
    sound: NDArray[np.float32], rate: int, others: Sequence[Hit], most: int
) -> list[Moment]:
    """The moments of a mic ``(frames,)`` that stand out the most, at most ``most``, in order of time.
    ``others`` are all hits of other pieces, in the mic's time."""
    bands = band_energy(sound, rate)
    times = candidates(bands, RISE_DB) * bands.hop / rate
    if not len(times):
        return []
    levels = amplitudes_to_db(hit_peaks(sound, rate, list(times)))
    usual = _usual_bleed_db(sound, rate, others)
    floor = float(np.percentile(levels, 10))
    at = np.array([h.time_s for h in others])
    order = np.argsort(at)
    first, last = np.searchsorted(at[order], [times - NEAR_S[0], times + NEAR_S[1]])
    over = np.array(
        [
            level - max([usual[others[n].piece] for n in order[a:b]], default=floor)
            for level, a, b in zip(levels, first, last, strict=True)
        ]
    )
    chosen: list[int] = []
    for n in np.argsort(-over, kind="stable"):
        if all(abs(times[n] - times[other]) > APART_S for other in chosen):
            chosen.append(int(n))
        if len(chosen) == most:
            break
    return [
        Moment(round(float(times[n]), 4), round(float(levels[n]), 1), round(float(over[n]), 1))
        for n in sorted(chosen)
    ]


def _usual_bleed_db(
    sound: NDArray[np.float32], rate: int, others: Sequence[Hit]
) -> dict[str, float]:
    """The median peak in dBFS that each piece's hits leave in the mic; of a piece with too few hits to
    know, that of all."""
    peaks = amplitudes_to_db(hit_peaks(sound, rate, [h.time_s for h in others]))
    every = float(np.median(peaks)) if len(peaks) else -np.inf
    out = {}
    for piece in {h.piece for h in others}:
        own = np.array([p for p, h in zip(peaks, others, strict=True) if h.piece == piece])
        out[piece] = float(np.median(own)) if len(own) >= FEWEST else every
    return out
