"""How hard to ask, and how small a difference is heard: a two-down one-up staircase and the threshold behind it.

Two right answers in a row make the difference smaller, a wrong one makes it larger (Levitt, 1971), which settles
where 70.7 % are right. The threshold is read from all answers together: the psychometric function that makes them most
likely, with the two answers guessed right by halves, a few lapses, and a slope in proportion to the difference.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import exp, log, sqrt

import numpy as np

from arkund.core.errors import ArkundError

FACTORS = (2.0, 2.0, sqrt(2.0), sqrt(2.0), 2**0.25)
"""Steps by which a difference grows and shrinks: coarse until the staircase has turned that often, then the last."""

GUESSED, LAPSED, SLOPE = 0.5, 0.02, 2.0
RIGHT_AT_THRESHOLD = sqrt(0.5)
FEWEST = 8
"""With fewer answers a threshold says nothing."""


@dataclass(frozen=True)
class Trial:
    """A difference that was asked, in the skill's unit, and whether the answer was right."""

    size: float
    right: bool


@dataclass(frozen=True)
class Range:
    """The difference that is asked first, and the smallest and largest that are asked, all above 0."""

    first: float
    smallest: float
    largest: float

    def __post_init__(self) -> None:
        if not 0 < self.smallest <= self.first <= self.largest:
            raise ArkundError(
                "A range goes from its smallest over its first to its largest, above 0."
            )


def next_size(trials: Sequence[Trial], within: Range) -> float:
    """The difference to ask after ``trials``, the earliest first."""
    if not trials:
        return within.first
    size = trials[-1].size
    if not trials[-1].right:
        wanted = size * _factor(trials)
    elif _right_at_this_size(trials) % 2 == 0:
        wanted = size / _factor(trials)
    else:
        wanted = size
    return float(np.clip(wanted, within.smallest, within.largest))


def _right_at_this_size(trials: Sequence[Trial]) -> int:
    """How many of the last answers in a row were right at the size that was asked last."""
    count = 0
    for one in reversed(trials):
        if not one.right or one.size != trials[-1].size:
            break
        count += 1
    return count


def _factor(trials: Sequence[Trial]) -> float:
    steps = [b.size - a.size for a, b in pairwise(trials) if b.size != a.size]
    turns = sum(a * b < 0 for a, b in pairwise(steps))
    return FACTORS[min(turns, len(FACTORS) - 1)]


def chance(size: float, scale: float) -> float:
    """How likely a difference is heard rightly, 0.5 to 0.98, by a listener of a ``scale`` in the same unit."""
    return GUESSED + (1 - GUESSED - LAPSED) * (1 - exp(-((size / scale) ** SLOPE)))


def scale_at(threshold: float) -> float:
    """The `chance` scale of a listener who is right 70.7 % of the time at a ``threshold``."""
    share = (RIGHT_AT_THRESHOLD - GUESSED) / (1 - GUESSED - LAPSED)
    return threshold / float((-log(1 - share)) ** (1 / SLOPE))


def threshold_of(trials: Sequence[Trial], within: Range) -> float | None:
    """The difference that is heard 70.7 % of the time, in the trials' unit; None after fewer than `FEWEST`.

    The mean over log-spaced thresholds between half the smallest and twice the largest difference, weighted by how
    likely each makes the answers.
    """
    if len(trials) < FEWEST:
        return None
    tried = np.geomspace(within.smallest / 2, within.largest * 2, 400)
    likely = np.zeros(len(tried))
    for n, threshold in enumerate(tried):
        scale = scale_at(float(threshold))
        for one in trials:
            right = chance(one.size, scale)
            likely[n] += log(right if one.right else 1 - right)
    weight = np.exp(likely - likely.max())
    return float(np.exp(np.sum(weight * np.log(tried)) / np.sum(weight)))
