"""Fewer samples a second, in time with the sound."""

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kernel import kernel

AT_ONCE = 1024
REACH = 4
"""Half the length of the filter, in steps: what lies above two thirds of the new rate folds back 50 dB
down."""

CUTOFF = 0.7
"""Where the filter is 6 dB down, as a share of half the rate that is left."""


def decimated(audio: NDArray[np.float32], step: int) -> NDArray[np.float32]:
    """Every ``step``-th sample of ``(frames,)`` after a low-pass: within 0.2 dB up to a sixth of the rate
    that is left, 5 dB down at a third; as it is if ``step`` is 1."""
    if step == 1:
        return audio
    taps = scipy.signal.firwin(2 * REACH * step + 1, CUTOFF / step).astype(np.float32)
    every: NDArray[np.float32] = _every(np.ascontiguousarray(audio, np.float32), taps, step, REACH)
    return every


@kernel(fastmath=True)
def _every(sound, taps, step, reach):  # type: ignore[no-untyped-def]
    """``sound`` through ``taps`` ``(2 * reach * step + 1,)``, every ``step``-th sample, in time with
    it; so many samples together that they stay in the nearest cache."""
    frames = -(-len(sound) // step)
    out = np.zeros(frames, np.float32)
    part = np.zeros((step, AT_ONCE + 2 * reach + 1), np.float32)
    for first in range(0, frames, AT_ONCE):
        count = min(AT_ONCE, frames - first)
        begin, wide = (first - reach) * step, count + 2 * reach + 1
        for phase in range(step):
            low = max(-(-(-begin - phase) // step), 0)
            high = min(-(-(len(sound) - begin - phase) // step), wide)
            part[phase, :low] = 0.0
            part[phase, max(high, 0) :] = 0.0
            for k in range(low, high):
                part[phase, k] = sound[begin + phase + k * step]
        some = out[first : first + count]
        for tap in range(len(taps)):
            row = part[tap % step, tap // step : tap // step + count]
            for k in range(count):
                some[k] += taps[tap] * row[k]
    return out
