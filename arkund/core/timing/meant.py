"""The line of the grid on which each hit was meant, read from what is played around it.

A single hit halfway between two lines says nothing. The same place in other bars, and the same
bar in other takes, do: where such hits gather, there this one was meant. Each hit climbs the
density of its piece's placements to the nearest summit, and the line nearest to that summit is
its own. A summit that itself lies between two lines is unclear and is asked about.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid

DIVISIONS: dict[str, float] = {
    "1/4": 1,
    "1/8": 2,
    "1/8t": 3,
    "1/16": 4,
    "1/16t": 6,
    "1/32": 8,
}
"""Lines in a quarter note, by name; ``t`` for triplets."""

BINS = 96
"""Bins of the density in a quarter note: divisible by every division."""

WIDTH = 0.16
"""Width of the density's kernel, in steps of the division."""

UNCLEAR = 0.34
"""A summit further than this from its line, in steps, is between two lines."""


@dataclass(frozen=True)
class Meant:
    """Per hit: the line's place in quarters since bar 1, and whether that is clear."""

    lines: NDArray[np.float64]
    clear: NDArray[np.bool_]


def lines_near(
    quarters: NDArray[np.float64], division: str, swing: float = 0.5
) -> NDArray[np.float64]:
    """The nearest line of a division to each place ``(n,)``, in quarters. ``swing`` 0.5 (straight) to 0.75
    puts every second line of a straight division that far into its pair."""
    steps = DIVISIONS[division]
    if swing == 0.5 or division.endswith("t"):
        return np.rint(quarters * steps) / steps
    pair = 2 / steps
    base = np.floor(quarters / pair) * pair
    candidates = base[:, None] + np.array([0.0, swing * pair, pair])
    nearest = np.argmin(np.abs(candidates - quarters[:, None]), axis=1)
    return np.take_along_axis(candidates, nearest[:, None], 1)[:, 0]


def meant_lines(
    hits: Sequence[Hit],
    grid: Grid,
    division: str,
    swing: float = 0.5,
    others: Sequence[Sequence[Hit]] = (),
) -> Meant:
    """Lines on which ``hits`` were meant. ``others`` are the hit lists of other takes in the
    song's time; ``hits`` are read among themselves too. Not to be written to."""
    if not hits:
        return Meant(np.zeros(0), np.zeros(0, bool))
    return _meant_lines(tuple(hits), grid, division, swing, tuple(map(tuple, others)))


# A rule that is tried again and again asks for the same lines each time.
@lru_cache(maxsize=8)
def _meant_lines(
    hits: tuple[Hit, ...],
    grid: Grid,
    division: str,
    swing: float,
    others: tuple[tuple[Hit, ...], ...],
) -> Meant:
    places = grid.quarters_at(np.array([h.time_s for h in hits]))
    first = float(np.floor(places.min())) - 1
    length = int((np.ceil(places.max()) - first + 2) * BINS)
    summits = np.empty(len(places))
    for piece in {h.piece for h in hits}:
        own = np.array([h.piece == piece for h in hits])
        density = _density(places[own], piece, grid, division, others, first, length)
        summits[own] = _climbed(places[own], density, first, 0.55 / DIVISIONS[division])
    lines = lines_near(summits, division, swing)
    off = np.abs(summits - lines) * DIVISIONS[division]
    # With swing the gaps between lines differ; what counts is the way to the next best line.
    return Meant(lines, off <= UNCLEAR)


def _density(
    places: NDArray[np.float64],
    piece: str,
    grid: Grid,
    division: str,
    others: Sequence[Sequence[Hit]],
    first: float,
    length: int,
) -> NDArray[np.float64]:
    """How often this piece is struck at each place: in this take's other bars, and in this very
    bar by other takes, which weigh more since fills come only once a take."""
    width = WIDTH * BINS / DIVISIONS[division]
    per_bar = grid.beats * 4 / grid.unit
    bar_bins = round(per_bar * BINS)
    pattern = np.bincount(
        np.rint((places % per_bar) * BINS).astype(int) % bar_bins, minlength=bar_bins
    ).astype(float)
    pattern = scipy.ndimage.gaussian_filter1d(pattern, width, mode="wrap")
    start = round((first % per_bar) * BINS)
    everywhere = np.resize(np.roll(pattern, -start), length)
    here = np.zeros(length)
    for hits in others:
        times = np.array([h.time_s for h in hits if h.piece == piece])
        at = np.rint((grid.quarters_at(times) - first) * BINS).astype(int)
        here += np.bincount(at[(at >= 0) & (at < length)], minlength=length)[:length]
    return everywhere + 3.0 * scipy.ndimage.gaussian_filter1d(here, width)


def _climbed(
    places: NDArray[np.float64], density: NDArray[np.float64], first: float, reach: float
) -> NDArray[np.float64]:
    """Each place's summit of the density: uphill, at most ``reach`` quarters away."""
    out = np.empty(len(places))
    far = round(reach * BINS)
    for n, place in enumerate(places):
        start = at = round((place - first) * BINS)
        while 0 < at < len(density) - 1 and abs(at - start) < far:
            uphill = at + (1 if density[at + 1] > density[at - 1] else -1)
            if density[uphill] <= density[at]:
                break
            at = uphill
        out[n] = first + at / BINS
    return out


def swing_of(hits: Sequence[Hit], grid: Grid, division: str) -> float:
    """How far into its pair the drummer plays every second line of a straight division, 0.5 to
    0.75; 0.5 where there are under eight such hits."""
    pair = 2 / DIVISIONS[division]
    phase = (grid.quarters_at(np.array([h.time_s for h in hits])) % pair) / pair
    second = phase[(phase > 0.4) & (phase < 0.8)]
    return float(np.clip(np.median(second), 0.5, 0.75)) if len(second) >= 8 else 0.5


def habits(
    hits: Sequence[Hit], grid: Grid, lines: NDArray[np.float64]
) -> Mapping[tuple[str, float], float]:
    """The drummer's feel: median lateness in s by (piece, place of the line within its beat in
    quarters), where at least `FEEL_FROM` hits show it; ``(piece, -1)`` over all lines."""
    late = np.array([h.time_s for h in hits]) - grid.seconds_of(lines)
    groups: dict[tuple[str, float], list[float]] = {}
    for hit, line, off in zip(hits, lines, late, strict=True):
        groups.setdefault((hit.piece, round(float(line % 1), 4)), []).append(float(off))
        groups.setdefault((hit.piece, -1.0), []).append(float(off))
    return {
        key: float(np.median(offs))
        for key, offs in groups.items()
        if len(offs) >= FEEL_FROM or key[1] == -1.0
    }


FEEL_FROM = 5
