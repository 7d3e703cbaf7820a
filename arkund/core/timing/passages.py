"""The passages by which a drum is judged: where it plays, its loudest, densest and softest bars."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid

LENGTH_BARS = 2
LONGEST_BARS = 8
"""A place that goes on for longer is cut into parts of so many bars."""

FEW_PER_BAR = 2
"""Hits a bar that a loudest or softest passage has at least, unless no passage has as many."""


@dataclass(frozen=True)
class Passage:
    """Bars ``first`` to ``last`` (1-based, both inclusive) and how many hits of the drum fall
    there."""

    first: int
    last: int
    hits: int


@dataclass(frozen=True)
class Passages:
    """Where a drum is struck (`places`, in order), and where it is struck loudest, most often and
    softest on average; None where it is never struck."""

    places: tuple[Passage, ...]
    loudest: Passage | None
    densest: Passage | None
    softest: Passage | None


def passages(hits: Sequence[Hit], piece: str, grid: Grid, bars: int) -> Passages:
    """Passages of a piece in a song of so many bars. Loudness is that of the hits (``level_db``)."""
    own = [h for h in hits if h.piece == piece]
    times = np.array([h.time_s for h in own])
    at = np.clip(grid.bars_at(times + 0.03).astype(int), 1, bars)
    levels = np.array([h.level_db for h in own])
    if not len(at):
        return Passages((), None, None, None)
    counts = np.bincount(at, minlength=bars + 2)
    hits_until, levels_until = (
        np.concatenate([[0.0], np.cumsum(np.bincount(at, of, minlength=bars + 2))])
        for of in (None, levels)
    )

    def passage(first: int, last: int) -> Passage:
        return Passage(first, last, int(hits_until[last + 1] - hits_until[first]))

    windows = [
        passage(first, min(first + LENGTH_BARS - 1, bars))
        for first in range(1, max(bars - LENGTH_BARS + 1, 1) + 1)
    ]
    struck = [w for w in windows if w.hits]
    enough = min(FEW_PER_BAR * LENGTH_BARS, max(w.hits for w in struck))
    heard = [w for w in struck if w.hits >= enough]

    def level(window: Passage) -> float:
        total = levels_until[window.last + 1] - levels_until[window.first]
        return float(total) / window.hits

    def early(window: Passage) -> tuple[bool, int]:
        """Of two alike the one in whose first bar the drum is struck, so that it is heard to ring."""
        return bool(counts[window.first]), -window.first

    return Passages(
        tuple(passage(first, last) for first, last in _places(np.unique(at), bars)),
        max(heard, key=lambda w: (round(level(w), 6), *early(w))),
        max(struck, key=lambda w: (w.hits, *early(w))),
        max(heard, key=lambda w: (round(-level(w), 6), *early(w))),
    )


def _places(
    struck: "np.ndarray[tuple[int], np.dtype[np.int64]]", bars: int
) -> list[tuple[int, int]]:
    """Runs of bars in which the drum is struck; a bar's rest does not end one. What rings into the
    bar after is heard with it."""
    runs: list[list[int]] = []
    for bar in struck.tolist():
        if runs and bar - runs[-1][1] <= 2:
            runs[-1][1] = bar
        else:
            runs.append([bar, bar])
    places = []
    for first, last in runs:
        for start in range(first, last + 1, LONGEST_BARS):
            stop = min(start + LONGEST_BARS - 1, last)
            places.append((start, min(max(stop, start + 1), bars) if stop == last else stop))
    return places
