"""A tempo that drifts: bar lines found from the hits, smoothed, as a tempo map."""

from collections.abc import Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.confidence import LIKELY
from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Change, Grid

STIFFNESS = 30.0
"""How dear a change of tempo from bar to bar is against a bar line away from its hits."""

NEAR = 0.16
"""A hit says where the bar lines are when it lies this close to an eighth, in quarters."""

ROUNDS = 4
LARGEST_CHANGE = 0.06
USUAL_CHANGE = 0.012
"""By how much of itself a bar may, and usually does, differ from the one before."""

CLOSE_S = 0.02


def drifting(grid: Grid, hits: Sequence[Hit], bars: int) -> Grid:
    """``grid`` with its bar lines moved to where the hits of each bar lie.

    Bars are first followed one by one from the given bar 1 on, each as long as agrees best with
    the hits in it and after it without changing much. Then bar lines get a smooth correction c:
    least squares over the hits' distances to their nearest eighths, plus `STIFFNESS` times the
    squared second differences of c (Whittaker, 1923). Bars without hits are carried along by
    their neighbours.
    """
    loud = [h for h in hits if h.kind != "ghost" and h.confidence >= LIKELY]
    times = np.array([h.time_s for h in loud])
    if len(times) < 16 or bars < 3:
        return grid
    starts = _followed(times, grid, bars)
    for _ in range(ROUNDS):
        starts = _corrected(starts, times, grid)
    return _map_of(starts, grid)


def _followed(times: NDArray[np.float64], grid: Grid, bars: int) -> NDArray[np.float64]:
    """Bar lines found one after another."""
    ratios = np.linspace(1 - LARGEST_CHANGE, 1 + LARGEST_CHANGE, 49)
    steps = grid.beats * 8 / grid.unit  # eighths in a bar
    starts = [grid.bar_start_s(1)]
    length = grid.bar_s
    for _ in range(bars):
        start = starts[-1]
        inside = times[(times > start - 0.1) & (times < start + 2 * length)]
        lengths = length * ratios
        place = (inside[None, :] - start) / lengths[:, None] * steps
        off_s = (place - np.rint(place)) * lengths[:, None] / steps
        agreement = np.exp(-0.5 * (off_s / CLOSE_S) ** 2).sum(axis=1)
        cost = 0.5 * ((ratios - 1) / USUAL_CHANGE) ** 2
        length = float(lengths[np.argmax(agreement - cost)])
        starts.append(start + length)
    return np.array(starts)


def _corrected(
    starts: NDArray[np.float64], times: NDArray[np.float64], grid: Grid
) -> NDArray[np.float64]:
    count = len(starts)
    bar = np.clip(np.searchsorted(starts, times, "right") - 1, 0, count - 2)
    length = starts[bar + 1] - starts[bar]
    share = (times - starts[bar]) / length
    per_bar = grid.beats * 4 / grid.unit
    eighths = np.rint(share * per_bar * 2) / (per_bar * 2)
    late = (share - eighths) * length
    near = np.abs(share - eighths) * per_bar < NEAR
    # Each hit pulls at the two bar lines it lies between, by its place.
    weight = np.zeros(count)
    pull = np.zeros(count)
    for side, part in ((0, 1 - share), (1, share)):
        np.add.at(weight, bar[near] + side, part[near])
        np.add.at(pull, bar[near] + side, (part * late)[near])
    # Second differences squared make a matrix of five diagonals, of which a solver for banded
    # symmetric ones needs the upper three.
    bend = np.diff(np.eye(count), 2, axis=0)
    whole = STIFFNESS * (bend.T @ bend) + np.diag(weight + 1e-6)
    banded = np.zeros((3, count))
    for k in range(3):
        banded[2 - k, k:] = np.diagonal(whole, k)
    correction: NDArray[np.float64] = scipy.linalg.solveh_banded(banded, pull)
    return starts + correction


def _map_of(starts: NDArray[np.float64], grid: Grid) -> Grid:
    per_bar = grid.beats * 4 / grid.unit
    bpms = np.round(60.0 * per_bar / np.diff(starts), 3)
    bpms = np.clip(bpms, 20, 400)
    changes = tuple(
        Change(bar, float(bpm), grid.beats, grid.unit) for bar, bpm in enumerate(bpms[1:], start=2)
    )
    return Grid(float(bpms[0]), grid.beats, grid.unit, round(float(starts[0]), 5), changes)
