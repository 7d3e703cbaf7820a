"""Smallest and largest sample per stretch of time, for drawing waveforms at any zoom."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.audio.samples import Samples, in_parts

BASE = 128
"""Samples per entry of a stored overview."""


@dataclass(frozen=True)
class Overview:
    """``extremes`` is int16 ``(entries, 2)``: lowest and highest sample of `BASE` frames each."""

    extremes: NDArray[np.int16]

    @classmethod
    def of(cls, audio: Samples) -> "Overview":
        """Overview of a mono signal ``(frames,)``; full scale is 32767, anything beyond is held there."""
        parts = [_extremes(part) for part in in_parts(audio, BASE)]
        return cls(np.concatenate([np.zeros((0, 2), np.int16), *parts]))

    def columns(self, start: int, stop: int, count: int) -> NDArray[np.int16]:
        """``(count, 2)`` extremes of the frames ``start`` to ``stop``, one row a picture column.

        Meant for columns of `BASE` samples or more; finer ones are drawn from the sound itself.
        """
        edges = np.linspace(start, stop, count + 1) / BASE
        # reduceat runs its last part to the array's end, which must therefore be the picture's.
        held = self.extremes[: max(int(np.ceil(edges[-1])), 1)]
        first = np.clip(np.floor(edges[:-1]).astype(np.int64), 0, max(len(held) - 1, 0))
        out = np.zeros((count, 2), np.int16)
        inside = (edges[:-1] < len(self.extremes)) & (edges[1:] > 0)
        if len(self.extremes) and inside.any():
            out[:, 0] = np.minimum.reduceat(held[:, 0], first)
            out[:, 1] = np.maximum.reduceat(held[:, 1], first)
            out[~inside] = 0
        return out


def _extremes(audio: NDArray[np.float32]) -> NDArray[np.int16]:
    entries = -(-len(audio) // BASE)
    padded = np.zeros(entries * BASE, np.float32)
    padded[: len(audio)] = audio
    shaped = padded.reshape(entries, BASE)
    pairs = np.stack([shaped.min(axis=1), shaped.max(axis=1)], axis=1)
    return np.clip(np.rint(pairs * 32767), -32768, 32767).astype(np.int16)


def columns_of(audio: NDArray[np.float32], count: int) -> NDArray[np.int16]:
    """``(count, 2)`` extremes of the sound itself, each column touching its neighbour.

    With fewer samples than columns, the nearest sample is repeated.
    """
    if len(audio) == 0:
        return np.zeros((count, 2), np.int16)
    edges = np.linspace(0, len(audio), count + 1)
    first = np.minimum(np.floor(edges[:-1]).astype(np.int64), len(audio) - 1)
    low = np.minimum.reduceat(audio, first)
    high = np.maximum.reduceat(audio, first)
    scaled = np.stack([low, high], axis=1) * 32767
    return np.clip(np.rint(scaled), -32768, 32767).astype(np.int16)
