"""What soft hits have become in a mix, the cymbals' and the snare's ghosts: measured on those that stand clear.

Where a soft hit lies under a drum's ring, the mix may lower that ring on purpose; what is measured then is
the ring. Which hits stand clear is read from the recording, so that it holds for every mix of it.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.units import SILENCE_DB

PUMPED_S = 0.250
"""A bus that is pressed by kick or snare is not back so soon after them."""

PUMPING = ("kick", "snare")
FEWEST_PUMPED = 4
"""Hits of cymbals, both soon after these and away from them, without which pumping is not measured."""

JUST_BEFORE_S, CLEAR_DB = (-0.020, -0.003), 6.0
"""A hit stands clear if its attack exceeds what sounds just before it by so much."""


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
"""Clear ghosts without which nothing is said of them."""


@dataclass(frozen=True)
class Ghosts:
    """The snare's ghosts that no shell's hit is near, ``(ghosts,)`` each: the attack of their body (under a hat's
    sound) in the mix in dBFS, and by how many dB it exceeds what sounds there just before (`JUST_BEFORE_S`);
    and the same attack of the median accent in dBFS."""

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
