"""What hits of hat and cymbals have become in a mix: how unequally they moved, and whether the mix pumps."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

PUMPED_S = 0.250
"""A bus that is pressed by kick or snare is not back so soon after them."""

PUMPING = ("kick", "snare")
FEWEST_PUMPED = 4
"""Hits of cymbals, both soon after these and away from them, without which pumping is not measured."""

JUST_BEFORE_S, CLEAR_DB = (-0.020, -0.003), 6.0
"""A cymbal's hit that stands so far over what sounds just before it is its own; under a drum's ring, which the
mix may lower on purpose, the ring would be measured."""


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
        """Which hits are measured themselves, and not a drum's ring over them."""
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
