"""Whether a drum is hit at all: what its mic shows over the whole song, not hit by hit.

A tom that rests still has a mic, and what bleeds into it may look like a hit each time. A drum that is
hit shows it once at least in a way that bleed cannot: surely, and from the overheads too, or clear of all
that bleed can reach. One that does not is not believed; its loudest moments are for an ear (`moments`).
"""

import numpy as np
from numpy.typing import NDArray

from arkund.core.kit.roles import piece_family

DOUBTED = ("tom", "hat")
"""Families of which a song often has none though the mic is there."""

SUREST, SURE = 90, 0.95
"""Where a drum is hit, this percentile of its hits' confidence is at least so high."""

FROM_AFAR = 0.3
"""Where a drum is hit, overheads give its median hit at least this share."""

CLEAR_DB = 3.5
"""A drum is believed too where two of its hits (or its only one) stand so far above predicted bleed."""


def is_believed(
    piece: str,
    confidence: NDArray[np.float64],
    from_afar: NDArray[np.float64] | None,
    over_bleed_db: NDArray[np.float64],
) -> bool:
    """Whether a piece is hit, by all of its hits: how sure each is, the share that overheads give its
    family there (None without overheads), and by how many dB it stands above predicted bleed."""
    family = piece_family(piece)
    if family not in DOUBTED or not len(confidence):
        return True
    is_sure = float(np.percentile(confidence, SUREST)) >= SURE
    is_seen = from_afar is None or float(np.median(from_afar)) >= FROM_AFAR
    if family == "hat":
        return is_seen
    clear = np.sort(over_bleed_db)[-min(2, len(over_bleed_db))]
    return (is_sure and is_seen) or bool(clear >= CLEAR_DB)
