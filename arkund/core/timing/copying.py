"""Where sound is cut to be copied: right before hits, so that nothing is cut off."""

from collections.abc import Sequence

import numpy as np

from arkund.core.hits.hit import Hit

LEAD_S = 0.004
"""A cut lies so much before the first arrival of a hit, earlier than any mic hears it."""

EARLY_S = 0.045
"""A hit so little before a line was meant on it."""

LEAST_S = 0.030
TOGETHER_S = 0.030
"""What begins so little before a hit belongs to it, and is covered where another is laid over it."""


def cut_before(lists: Sequence[Sequence[Hit]], lines_s: Sequence[float]) -> float:
    """Seconds before each of the given lines at which to cut: ahead of the earliest hit that
    any of the lists (one a line) plays on its own line."""
    early = [
        line - h.time_s
        for hits, line in zip(lists, lines_s, strict=True)
        for h in hits
        if -EARLY_S < h.time_s - (h.grace_s or 0.0) - line < 0
    ]
    return max(early, default=0.0) + LEAD_S


def hit_length(own: Sequence[Hit], at_s: float, there: Sequence[Hit], to_s: float) -> float:
    """Seconds that one hit at ``at_s`` of its take can be copied for when it goes to ``to_s``:
    until the next hit of either begins, what falls together with it aside."""

    def way(hits: Sequence[Hit], from_s: float) -> float:
        later = [
            h.time_s - (h.grace_s or 0.0) - from_s for h in hits if h.time_s > from_s + LEAST_S
        ]
        return min(later, default=float(np.inf))

    return max(min(way(own, at_s), way(there, to_s), 4.0) - LEAD_S, LEAST_S)


def lead_before(hits: Sequence[Hit], to_s: float) -> float:
    """Seconds before ``to_s`` at which a copy of a hit begins there: ahead of the hit that it covers and of
    what was meant to fall with that one, but came early."""
    early = [to_s - h.time_s + (h.grace_s or 0.0) for h in hits]
    return max([e for e in early if 0 < e <= TOGETHER_S], default=0.0) + LEAD_S
