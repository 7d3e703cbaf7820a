"""The events of a take as signatures are learned from them."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hear.leading import Onsets


@dataclass(frozen=True)
class Heard:
    """All events: ``scaled`` and ``doubt`` ``(rows, events)``, by what they were divided (``scale``
    ``(rows,)``), the rows of each piece's ``own``
    mics, and how each piece's nearest mic hears them begin (``onsets``, a row a piece)."""

    scaled: NDArray[np.float64]
    doubt: NDArray[np.float64]
    scale: NDArray[np.float64]
    own: dict[str, NDArray[np.int64]]
    onsets: Onsets
    overheads: list[int]

    @property
    def ringing(self) -> NDArray[np.int64]:
        """Rows of what still sounds in the overheads (`event_vectors`)."""
        return np.arange(len(self.scaled) - 2 * len(self.overheads), len(self.scaled))

    def ear(self, piece: str) -> int:
        return list(self.own).index(piece)

    def amount(self, piece: str) -> NDArray[np.float64]:
        """How loud each event is in a piece's own mics, ``(events,)``."""
        mean: NDArray[np.float64] = np.sqrt(self.scaled[self.own[piece]]).mean(axis=0)
        return mean**2
