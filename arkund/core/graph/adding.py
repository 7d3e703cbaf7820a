"""Kernels of the mix: adding signals up, and short filters."""

from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel


def filter_valid(sound: NDArray[np.float32], taps: NDArray[np.float64]) -> NDArray[np.float32]:
    """Correlation of ``(frames,)`` with ``taps`` where they overlap whole:
    ``(frames - len(taps) + 1,)``."""
    out = np.empty(max(len(sound) - len(taps) + 1, 0), np.float32)
    _filter(sound, taps.astype(np.float32), out)
    return out


_WINDOW = np.kaiser(65, 8.0)[:-1]


@lru_cache(256)
def taps_late(fraction: float) -> NDArray[np.float64]:
    """64 taps that put a sound ``fraction`` of a sample later, for `filter_valid`, 32 samples of room
    before it and 31 behind: a windowed sinc, flat within 0.1 dB to 16 kHz at 44.1 kHz. Not to be
    written to."""
    kernel = np.sinc(np.arange(-31, 33) - fraction) * _WINDOW
    kernel *= 1.0 / kernel.sum()
    return kernel[::-1]


BLOCK = 4096
"""Samples that are filtered at a time: as many as stay near the processor."""


@kernel(fastmath=True)
def _filter(sound, taps, out):  # type: ignore[no-untyped-def]
    fours = len(taps) - len(taps) % 4
    for first in range(0, len(out), BLOCK):
        part = out[first : min(first + BLOCK, len(out))]
        part[:] = np.float32(0.0)
        for t in range(0, fours, 4):
            _add_four(part, sound[first + t :], taps[t], taps[t + 1], taps[t + 2], taps[t + 3])
        for t in range(fours, len(taps)):
            for n in range(len(part)):
                part[n] += taps[t] * sound[first + t + n]


@kernel(fastmath=True)
def _add_four(total, sound, a, b, c, d):  # type: ignore[no-untyped-def]
    """Four taps along ``sound``, added to ``total``: every loop runs along samples that do not depend
    on each other."""
    for n in range(len(total)):
        total[n] += a * sound[n] + b * sound[n + 1] + c * sound[n + 2] + d * sound[n + 3]


@kernel()
def add_mono(total, sound, left, right):  # type: ignore[no-untyped-def]
    """Add ``(frames,)`` to a float64 ``(frames, 2)`` with a gain to each side; both contiguous."""
    # One after the other in memory, both sides take half the time.
    sides = total.reshape(-1)
    for n in range(len(sound)):
        sides[2 * n] += sound[n] * left
        sides[2 * n + 1] += sound[n] * right


@kernel()
def add_stereo(total, sound, left, right):  # type: ignore[no-untyped-def]
    """Add ``(frames, 2)`` to a float64 ``(frames, 2)`` with a gain to each side."""
    for n in range(len(sound)):
        total[n, 0] += sound[n, 0] * left
        total[n, 1] += sound[n, 1] * right


@kernel()
def rounded(total, loudest, out):  # type: ignore[no-untyped-def]
    """A float64 sum ``(frames, 2)`` held within ±``loudest`` and rounded once, into ``out``."""
    for n in range(len(out)):
        out[n, 0] = np.float32(min(max(total[n, 0], -loudest), loudest))
        out[n, 1] = np.float32(min(max(total[n, 1], -loudest), loudest))


@kernel()
def spread(sound, left, right, loudest, out):  # type: ignore[no-untyped-def]
    """``(frames,)`` with a gain to each side, held and rounded likewise, into ``out``."""
    for n in range(len(sound)):
        out[n, 0] = np.float32(min(max(sound[n] * left, -loudest), loudest))
        out[n, 1] = np.float32(min(max(sound[n] * right, -loudest), loudest))


@kernel()
def add_steps(total, steps):  # type: ignore[no-untyped-def]
    """Add 24-bit steps ``(frames, 2)`` to a float64 sum."""
    for n in range(len(steps)):
        total[n, 0] += steps[n, 0] / 8388608.0
        total[n, 1] += steps[n, 1] / 8388608.0


@kernel()
def beyond(sound, level):  # type: ignore[no-untyped-def]
    """How many samples of ``(frames, 2)`` are louder than ``level``, and the loudest."""
    count, most = 0, 0.0
    for n in range(len(sound)):
        for side in range(2):
            size = np.float64(abs(sound[n, side]))
            count += size > level
            most = max(most, size)
    return count, most
