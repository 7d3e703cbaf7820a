"""Sound held back behind its detector: lookahead."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio


def held_back(audio: Audio, state: NDArray[np.float64], samples: int) -> Audio:
    """``audio`` ``(frames,)`` or ``(frames, 2)`` so many samples late; ``state`` ``(2 * samples,)`` carries what
    is still to come, from block to block."""
    if not samples:
        return audio
    sides = 1 if audio.ndim == 1 else 2
    kept = state[: sides * samples]
    past = kept.astype(np.float32)
    past = past if audio.ndim == 1 else past.reshape(samples, 2)
    joined = np.concatenate([past, audio])
    kept[:] = joined[len(audio) :].ravel()
    return np.ascontiguousarray(joined[: len(audio)])
