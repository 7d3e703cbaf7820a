"""What can be read like one mic's sound: an array, or a file of which slices are read."""

from collections.abc import Iterator
from typing import Protocol

import numpy as np
from numpy.typing import NDArray


class Samples(Protocol):
    """``(frames,)`` of which slices can be taken: an array, or `arkund.core.audio.files.MonoFile`."""

    def __len__(self) -> int:
        """How many samples there are."""

    def __getitem__(self, some: slice, /) -> NDArray[np.float32]:
        """The samples of a slice."""


PART = 28_800_000
"""About so many samples are taken at a time: ten minutes at 48 kHz, 115 MB."""


def in_parts(audio: Samples, step: int = 1) -> Iterator[NDArray[np.float32]]:
    """``audio`` one part after another, each but the last a multiple of ``step`` samples long."""
    size = PART // step * step
    for start in range(0, len(audio), size):
        yield audio[start : start + size]
