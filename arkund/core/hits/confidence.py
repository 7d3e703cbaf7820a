"""How sure a stroke is that no mic close by hears, as a share: of those given 0.9, nine in ten are
right. (Where a mic is close, `verdict` says so.)

What is measured of a stroke (how far it exceeds bleed, how steeply it rises) orders strokes by how
sure they are; how many are right at each step was counted on recordings of recorded strokes, for what
only overheads hear and for a kit in one sound. `make accuracy` prints the count on others.
"""

import numpy as np

from arkund.core.kit.roles import piece_family

LIKELY = 0.88
"""From here on a stroke is relied on for what is measured of several: time, takes, tempo."""

EXPORTED = 0.6
"""Strokes less sure than this are left out of what is written for other programs."""

ENOUGH_DB, ENOUGH_RISE_DB = 12.0, 6.0
"""Excess over bleed and rise that are as good as any more."""

STEPS = (0.0, 0.15, 0.3, 0.5, 0.75, 0.9, 1.0)
RIGHT = {
    "far ride": (0.5, 0.6, 0.75, 0.88, 0.9, 0.93, 0.94),
    "far crash": (0.05, 0.05, 0.08, 0.1, 0.3, 0.5, 0.85),
    "far cymbal": (0.2, 0.25, 0.35, 0.45, 0.55, 0.55, 0.55),
    "whole": (0.5, 0.7, 0.82, 0.88, 0.92, 0.95, 0.97),
}
"""Share of strokes that are right at each of `STEPS`, by how they are heard: by overheads alone,
or in one sound of the whole kit."""


def confidence(piece: str, excess_db: float, rise_db: float, heard: str) -> float:
    """Share of such strokes that are right, 0 to 1.

    ``heard`` is ``far`` (a cymbal by overheads alone) or ``whole`` (the kit in one sound).
    """
    order = min(1.0, max(excess_db, 0.0) / ENOUGH_DB) * min(1.0, rise_db / ENOUGH_RISE_DB)
    kind = "whole" if heard == "whole" else f"far {piece_family(piece)}"
    return round(float(np.interp(order, STEPS, RIGHT[kind])), 3)
