"""Whether a drum is hit at all: what its mic shows over the whole song, not hit by hit.

A tom that rests still has a mic, and what bleeds into it may look like a hit each time. A drum that is
hit shows it in a way that bleed cannot: clear of all that bleed can reach (`floor.is_hit_surely`), or surely,
and from the overheads too. One that does not is not believed; its loudest moments are for an ear (`moments`).
"""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kit.roles import piece_family

DOUBTED = ("tom", "hat")
"""Families of which a song often has none though the mic is there."""

SUREST, SURE = 90, 0.95
SEEN_BEST, SEEN = 75, 0.4
"""Where a tom is hit, these percentiles of how sure its hits are, and of how surely a tom's from afar, are
at least so high."""

FROM_AFAR = 0.3
"""Where a hat is hit, overheads give its median hit at least this share."""


def is_believed(
    piece: str,
    confidence: NDArray[np.float64],
    from_afar: NDArray[np.float64] | None,
) -> bool:
    """Whether a piece is hit, by all of its hits: how sure each is ``(hits,)``, 0 to 1, and the share that
    overheads give its family there ``(hits,)`` (None without overheads)."""
    family = piece_family(piece)
    if family not in DOUBTED or not len(confidence):
        return True
    if family == "hat":
        return from_afar is None or float(np.median(from_afar)) >= FROM_AFAR
    is_seen = from_afar is None or float(np.percentile(from_afar, SEEN_BEST)) >= SEEN
    return is_seen and float(np.percentile(confidence, SUREST)) >= SURE
