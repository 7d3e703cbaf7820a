"""How much what begins at a place sounds like the drum's own clear hits.

A kick or a hat at the same moment hides a soft hit's level, not its shape: what is laid over the
drum's other soft hits there still correlates, where bleed alone does not.
"""

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hear.agreed import AFTER_S, BEFORE_S, agreed
from arkund.core.hits.hear.slowed import Slowed

SOFT_DB = -8.0
"""Hits so far under the loud ones are soft."""

MOST, FEWEST, BEST = 12, 4, 3
"""So many of the clearest hits are laid over each place, and no fewer; the best ones count."""

HERE_S = 0.001
"""So near a place a hit begins there."""

APART_S = 0.030
"""No hit is compared with itself."""

AT_ONCE = 256
"""Places that are looked at together, so that little memory is needed."""


class Likeness(NamedTuple):
    """By correlation, −1 to 1: how much each place is like the drum's soft hits, like its loud ones
    and like what bleeds in, ``(places,)``, and how much each of these are like one another; NaN where
    there are too few."""

    soft: NDArray[np.float64]
    loud: NDArray[np.float64]
    bleed: NDArray[np.float64]
    soft_usually: float
    loud_usually: float
    bleed_usually: float


def likeness(
    body: Slowed,
    place: NDArray[np.float64],
    clear: Sequence[tuple[float, float]],
    bleed: Sequence[float],
) -> Likeness:
    """What begins at each ``place`` against the ``clear`` hits (place, level in dB), the clearest
    first, and against what begins where others ``bleed``, the loudest first; places in samples of the
    whole sound, of which ``body`` is what is `shaped`."""
    soft, loud = (
        _together(body, [(at, level) for at, level in clear if (level < SOFT_DB) == is_soft])
        for is_soft in (True, False)
    )
    found: list[NDArray[np.float64]] = []
    usually: list[float] = []
    for own in (soft, loud, np.array(bleed[:MOST], np.float64)):
        both = np.concatenate([place, own])
        like = _like_others(body.sound, both / body.step, own / body.step, body.rate)
        found.append(like[: len(place)])
        known = like[len(place) :]
        usually.append(float(np.nanmedian(known)) if np.isfinite(known).any() else np.nan)
    return Likeness(found[0], found[1], found[2], usually[0], usually[1], usually[2])


def _together(body: Slowed, hits: Sequence[tuple[float, float]]) -> NDArray[np.float64]:
    """The first `MOST` of them, where they agree to begin."""
    some = hits[:MOST]
    return agreed(body, np.array([at for at, _ in some]), np.array([level for _, level in some]))


def _like_others(
    body: NDArray[np.float32],
    place: NDArray[np.float64],
    own: NDArray[np.float64],
    rate: float,
) -> NDArray[np.float64]:
    """The mean of the `BEST` correlations of each place with the ``own`` hits, all in samples of the
    ``body``."""
    before, after, here = (round(s * rate) for s in (BEFORE_S, AFTER_S, HERE_S))
    size, out = before + after, np.full(len(place), np.nan)
    hits = np.round(own).astype(np.int64)
    hits = hits[(hits >= before) & (hits + after <= len(body))]
    if len(hits) < FEWEST:
        return out
    shapes = body[hits[:, None] + np.arange(-before, after)]
    shapes = shapes / (np.linalg.norm(shapes, axis=1, keepdims=True) + 1e-12)
    begin = np.round(place).astype(np.int64) - before - here
    inside = np.flatnonzero((begin >= 0) & (begin + size + 2 * here < len(body)))
    for first in range(0, len(inside), AT_ONCE):
        some = inside[first : first + AT_ONCE]
        sound = body[begin[some][:, None] + np.arange(size + 2 * here)]
        windows = np.lib.stride_tricks.sliding_window_view(sound, size, axis=1)
        strength = np.linalg.norm(windows, axis=2)
        fit = (windows @ shapes.T / (strength[:, :, None] + 1e-12)).max(axis=1)
        itself = np.abs(place[some][:, None] - hits) < APART_S * rate
        fit = np.sort(np.where(itself, -np.inf, fit), axis=1)[:, -BEST:]
        heard = np.isfinite(fit).all(axis=1)
        out[some[heard]] = fit[heard].mean(axis=1)
    return out
