"""What a mic really hears: how loud each piece's hits are in it."""

from collections.abc import Sequence

import numpy as np

from arkund.core.audio.samples import Samples
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, piece_family, sort_pieces
from arkund.core.measure.levels import hit_peaks
from arkund.core.units import amplitudes_to_db

ALONE_S = 0.06
"""A hit is alone where no other falls so near to it."""

SOFT = ("hat", "ride")
LEAST_ALONE = 3
"""Hits of a piece that must be alone for its loudness to be told."""


def heard_levels(audio: Samples, rate: int, hits: Sequence[Hit]) -> dict[str, float]:
    """Median peak in dBFS of each piece's hits in a mic ``(frames,)``, ghosts and hits with
    company left out (a hat or ride is none to a shell); pieces with fewer than three hits alone
    are missing."""
    out = {}
    for piece in sort_pieces(h.piece for h in hits):
        own = np.array([h.time_s for h in hits if h.piece == piece and h.kind != "ghost"])
        soft = SOFT if is_shell(piece) else ()
        others = np.sort(
            [h.time_s for h in hits if h.piece != piece and piece_family(h.piece) not in soft]
        )
        near = np.searchsorted(others, own + ALONE_S) - np.searchsorted(others, own - ALONE_S)
        alone = own[near == 0]
        if len(alone) >= LEAST_ALONE:
            peaks = hit_peaks(audio, rate, alone.tolist())
            out[piece] = round(float(np.median(amplitudes_to_db(peaks))), 1)
    return out
