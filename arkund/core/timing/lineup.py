"""Takes of one song laid over each other, so that bar 1 of each falls together."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, sort_pieces

REACH_S = 60.0
"""A take begins at most so much earlier or later in its file than another."""

BIN_S = 0.004
OPENING_S = 20.0
"""From here on takes played without a click may have drifted apart."""

AGREES = 0.5
"""Share of hits that must fall together for a place to be believed."""

STAYS_S = 0.02
"""Takes that lie closer than this were recorded on one line and are left on it."""


def lag_between(reference: Sequence[Hit], other: Sequence[Hit]) -> float | None:
    """Seconds by which ``other``'s hits come later in their file than the same ones of
    ``reference``; 0 where they lie together as they are, None where nothing fits.

    The lag at which most shell hits of one piece fall together, over the whole song where the
    takes keep one tempo, else over its first 20 s.
    """
    for length_s in (np.inf, OPENING_S):
        found = _best(_opening(reference, length_s), _opening(other, length_s))
        if found is not None:
            return 0.0 if abs(found) < STAYS_S else found
    return None


def _opening(hits: Sequence[Hit], length_s: float) -> dict[str, NDArray[np.float64]]:
    """Times of each shell's hits up to so long after the first."""
    shells = [h for h in hits if is_shell(h.piece)]
    end = min((h.time_s for h in shells), default=0.0) + length_s
    return {
        p: np.array([h.time_s for h in shells if h.piece == p and h.time_s <= end])
        for p in sort_pieces(h.piece for h in shells)
    }


def _best(
    reference: dict[str, NDArray[np.float64]], other: dict[str, NDArray[np.float64]]
) -> float | None:
    gaps = [(other[p][:, None] - reference[p][None, :]).ravel() for p in other if p in reference]
    near = np.concatenate([g[np.abs(g) < REACH_S] for g in gaps] or [np.zeros(0)])
    least = min(sum(map(len, reference.values())), sum(map(len, other.values())))
    if least < 4 or len(near) == 0:
        return None
    bins = round(2 * REACH_S / BIN_S)
    counts = np.histogram(near, bins, (-REACH_S, REACH_S))[0].astype(np.float64)
    # A drummer's spread is wider than a bin: neighbours count too.
    counts = np.convolve(counts, np.hanning(13), "same")
    centres = (np.arange(bins) + 0.5) * BIN_S - REACH_S
    # Of places that fit alike the nearest is meant.
    at = centres[int(np.argmax(counts - 1e-3 * np.abs(centres)))]
    together = near[np.abs(near - at) < 0.015]
    if len(together) < AGREES * least:
        return None
    return float(np.median(together))
