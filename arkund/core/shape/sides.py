"""Left and right of one sound."""

from typing import Any

import numpy as np
from numpy.typing import NDArray


def are_alike(
    audio: NDArray[np.float32], left_state: NDArray[Any], right_state: NDArray[Any]
) -> bool:
    """Whether both sides of ``(frames, 2)`` are the same and come from the same state, as those of
    a group of mics in the middle are: then one side's work does for both, to the bit."""
    return np.array_equal(left_state, right_state) and np.array_equal(audio[:, 0], audio[:, 1])


def louder_side(sound: NDArray[np.float32]) -> NDArray[np.float32]:
    """The larger magnitude of both sides of ``(frames, 2)``; ``(frames,)`` as it is."""
    return sound if sound.ndim == 1 else np.maximum(np.abs(sound[:, 0]), np.abs(sound[:, 1]))
