"""Kernels of the mix: adding signals up, and short filters."""

import numpy as np
from numba import njit
from numpy.typing import NDArray


def filter_valid(sound: NDArray[np.float32], taps: NDArray[np.float64]) -> NDArray[np.float32]:
    """Correlation of ``(frames,)`` with ``taps`` where they overlap whole:
    ``(frames - len(taps) + 1,)``."""
    out = np.empty(max(len(sound) - len(taps) + 1, 0), np.float32)
    _filter(sound, taps.astype(np.float32), out)
    return out


@njit(cache=True, nogil=True, fastmath=True)
def _filter(sound, taps, out):  # type: ignore[no-untyped-def]
    for n in range(len(out)):
        total = np.float32(0.0)
        for t in range(len(taps)):
            total += taps[t] * sound[n + t]
        out[n] = total


@njit(cache=True, nogil=True)
def add_mono(total, sound, left, right):  # type: ignore[no-untyped-def]
    """Add ``(frames,)`` to a float64 ``(frames, 2)`` with a gain to each side."""
    for n in range(len(sound)):
        total[n, 0] += sound[n] * left
        total[n, 1] += sound[n] * right


@njit(cache=True, nogil=True)
def add_stereo(total, sound, left, right):  # type: ignore[no-untyped-def]
    """Add ``(frames, 2)`` to a float64 ``(frames, 2)`` with a gain to each side."""
    for n in range(len(sound)):
        total[n, 0] += sound[n, 0] * left
        total[n, 1] += sound[n, 1] * right
