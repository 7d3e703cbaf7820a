"""Gains by hits: even ones, and ones that a layer plays instead."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import Enveloped, Reader, key_of
from arkund.core.graph.peaks import SILENT_DB, peaks_db
from arkund.core.once import once
from arkund.core.replace.even import even_gains_db, ridden, windows


@dataclass(frozen=True)
class Evened(Enveloped):
    """A gain a hit, within its own window, toward where hits of its kind peak."""

    onsets: tuple[int, ...]
    kinds: tuple[str, ...]
    amount: float

    @once
    def key(self) -> str:
        return key_of("evened", 1, self.source.key, self.onsets, self.kinds, self.amount)

    def gains_db(self, reader: Reader) -> NDArray[np.float64]:
        """The gain of each hit."""
        return even_gains_db(peaks_db(reader, self.source, self.onsets), self.kinds, self.amount)

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        spans = windows(self.onsets, reader.rate, reader.frames)
        shape = ridden(spans, self.gains_db(reader).tolist(), reader.rate)
        return np.stack([shape.positions, shape.gains_db])


@dataclass(frozen=True)
class Silenced(Enveloped):
    """Some of a drum's hits taken out, each within its own window: a layer plays instead."""

    onsets: tuple[int, ...]
    out: tuple[bool, ...]

    @once
    def key(self) -> str:
        return key_of("silenced", 1, self.source.key, self.onsets, self.out)

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        spans = windows(self.onsets, reader.rate, reader.frames)
        gains = [SILENT_DB if gone else 0.0 for gone in self.out]
        shape = ridden(spans, gains, reader.rate)
        return np.stack([shape.positions, shape.gains_db])
