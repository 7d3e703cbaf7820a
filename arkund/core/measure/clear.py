"""How a mix changes soft hits, of cymbals and the snare's ghosts, measured on those that stand clear.

The level at a soft hit under a drum's ring is the ring's, and the mix may lower that on purpose. The recording
decides which hits stand clear, so that every mix is measured at the same hits.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.units import SILENCE_DB

PUMPED_S = 0.250
"""For so long after a kick or snare a compressed bus may still be held down."""

PUMPING = ("kick", "snare")
FEWEST_PUMPED = 4
"""Pumping is measured from so many cymbal hits soon after a kick or snare and as many away from them."""

JUST_BEFORE_S, CLEAR_DB = (-0.020, -0.003), 6.0
"""A hit stands clear if its attack is so many dB over the sound just before it, in this span in s."""


@dataclass(frozen=True)
class Cymbals:
    """Hits of hat and cymbals away from shells, ``(hits,)`` each: their bright attack in the mix in
    dBFS, whether kick or snare was hit within `PUMPED_S` before, and by how many dB the attack exceeds what
    sounds there just before (`JUST_BEFORE_S`)."""

    levels_dbfs: NDArray[np.float64]
    is_pressed: NDArray[np.bool_]
    rises_db: NDArray[np.float64]

    @property
    def is_clear(self) -> NDArray[np.bool_]:
        """Which hits stand clear."""
        return self.rises_db >= CLEAR_DB

    def spread_db(self, before: "Cymbals") -> float:
        """How unequally the hits moved that were clear ``before``: from the 10th to the 90th percentile; 0
        without any."""
        moved = (self.levels_dbfs - before.levels_dbfs)[before.is_clear]
        return float(np.subtract(*np.percentile(moved, [90, 10]))) if len(moved) else 0.0

    def pumping_db(self, before: "Cymbals") -> float | None:
        """By how much more than the others those soon after kick or snare fell since ``before``, of those that
        were clear then; None where either are too few."""
        pressed, free = before.is_clear & self.is_pressed, before.is_clear & ~self.is_pressed
        if min(pressed.sum(), free.sum()) < FEWEST_PUMPED:
            return None
        moved = self.levels_dbfs - before.levels_dbfs
        return float(np.median(moved[free]) - np.median(moved[pressed]))


NO_CYMBALS = Cymbals(np.zeros(0), np.zeros(0, bool), np.zeros(0))


FEWEST_GHOSTS = 3
"""With fewer clear ghosts the card leaves them out."""


@dataclass(frozen=True)
class Ghosts:
    """The snare's ghosts with no shell's hit near them, ``(ghosts,)`` each: their attack in the mix, below the hat's
    range, in dBFS, and by how many dB it exceeds the sound just before (`JUST_BEFORE_S`); and the median accent's
    attack in dBFS."""

    levels_dbfs: NDArray[np.float64]
    rises_db: NDArray[np.float64]
    accent_dbfs: float

    def under_db(self, before: "Ghosts") -> float | None:
        """How far those that were clear ``before`` lie under accents, the median; None where they are too
        few, or ``before`` has other hits."""
        if len(self.levels_dbfs) != len(before.rises_db):
            return None
        own = self.levels_dbfs[before.rises_db >= CLEAR_DB]
        return self.accent_dbfs - float(np.median(own)) if len(own) >= FEWEST_GHOSTS else None


NO_GHOSTS = Ghosts(np.zeros(0), np.zeros(0), SILENCE_DB)
