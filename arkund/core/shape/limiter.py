"""The limiter: no true peak over the ceiling.

The signal's peaks at four times its rate say how much gain each sample may have. The least of what
lies within the look-ahead, let go by the release and smoothed over the look-ahead by two boxes in
a row, is reached just when the peak comes out: gain that falls and rises without a corner. Both
sides get the gain of the louder one.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

REACH = 12
"""Samples to either side from which a point between two samples is reckoned."""

MARGIN_DB = 0.04
"""How far under the ceiling the gain aims, for what gain that moves adds between samples."""

ROOM = 1024
"""Samples at a time."""

TRACE_STEP = 64
"""Samples per point of the reduction trace."""


@dataclass(frozen=True)
class Settings:
    """Ceiling in dBTP, look-ahead and release in ms (release to 63 %)."""

    ceiling_db: float
    lookahead_ms: float
    release_ms: float


def ahead(s: Settings, rate: int) -> int:
    """Look-ahead in samples, two at least."""
    return max(round(s.lookahead_ms * rate / 1000), 2)


def latency(s: Settings, rate: int) -> int:
    """Samples that pass before what goes in comes out."""
    return ahead(s, rate) + REACH


def memory(s: Settings, rate: int) -> int:
    """Samples after which the gain has come back to within −110 dB of 1."""
    return math.ceil(13 * s.release_ms * rate / 1000) + 4 * latency(s, rate)


def new_state(s: Settings, rate: int, sides: int = 1) -> NDArray[np.float64]:
    """State at rest: the sound held back, the gains allowed, the gains let go, their mean."""
    length = ahead(s, rate)
    held = (length + 2 * REACH) * sides
    state = np.ones(held + 1 + 3 * (length + 2))
    state[:held] = 0.0
    return state


def _phases() -> NDArray[np.float32]:
    """The three points between two samples, by a windowed sinc of 24 taps each, ``(3, 24)``."""
    at = np.arange(-REACH + 1, REACH + 1) - np.array([[0.25], [0.5], [0.75]])
    window = np.kaiser(2 * 1024 + 1, 6.0)
    shape = np.interp(at, np.linspace(-REACH, REACH, 2 * 1024 + 1), window)
    taps = np.sinc(at) * shape
    return (taps / taps.sum(axis=1, keepdims=True)).astype(np.float32)


_BETWEEN = _phases()


def run(
    audio: NDArray[np.float32], s: Settings, rate: int, state: NDArray[np.float64]
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """``audio`` ``(frames,)`` or ``(frames, 2)`` limited, `latency` samples late, and the largest
    reduction in dB of each `TRACE_STEP` samples; ``state`` is carried from block to block."""
    length = ahead(s, rate)
    sides = 1 if audio.ndim == 1 else audio.shape[1]
    held = (length + 2 * REACH) * sides
    past = state[:held].reshape(-1, sides)
    joined = np.concatenate([past.astype(np.float32), audio.reshape(len(audio), sides)])
    ceiling = np.float32(10 ** ((s.ceiling_db - MARGIN_DB) / 20))
    peaks = np.zeros(len(audio), np.float32)
    for side in range(sides):
        # The newest point that can be reckoned lies REACH samples back.
        _peaks(np.ascontiguousarray(joined[length:, side]), _BETWEEN, peaks)
    gain = np.empty(len(audio))
    release = 1 - math.exp(-1000 / (max(s.release_ms, 1e-3) * rate))
    _allow(peaks, ceiling)
    _gains(peaks, gain, length, release, state[held:])
    state[:held] = joined[len(audio) :].ravel()
    # A sample comes out when the gains of the whole look-ahead are known.
    out = np.empty((len(audio), sides), np.float32)
    _turn_down(joined[REACH : REACH + len(audio)], gain, out)
    steps = np.arange(0, len(gain), TRACE_STEP)
    least = np.minimum.reduceat(gain, steps) if len(gain) else gain
    return out.reshape(audio.shape), (-20 * np.log10(least)).astype(np.float32)


@kernel()
def _allow(peaks, ceiling):  # type: ignore[no-untyped-def]
    """Peaks become the gains that they may have, in place."""
    for n in range(len(peaks)):
        peaks[n] = ceiling / peaks[n] if peaks[n] > ceiling else np.float32(1.0)


@kernel()
def _turn_down(sound, gain, out):  # type: ignore[no-untyped-def]
    """``(frames, sides)`` times a gain a frame."""
    for n in range(len(sound)):
        for side in range(sound.shape[1]):
            out[n, side] = np.float32(sound[n, side] * gain[n])


@kernel(fastmath=True, error_model="numpy")
def _peaks(x, between, peaks):  # type: ignore[no-untyped-def]
    """Largest magnitude at or after each sample, before the next. A block at a time, every loop
    along samples, which do not depend on each other."""
    total = np.empty(ROOM, np.float32)
    for done in range(0, len(peaks), ROOM):
        count = min(ROOM, len(peaks) - done)
        most = peaks[done : done + count]
        for n in range(count):
            most[n] = max(most[n], abs(x[done + n + REACH]))
        for p in range(3):
            row = total[:count]
            row[:] = np.float32(0.0)
            for t in range(0, 2 * REACH, 4):
                a, b, c, d = between[p, t], between[p, t + 1], between[p, t + 2], between[p, t + 3]
                line = x[done + t + 1 :]
                for n in range(count):
                    row[n] += a * line[n] + b * line[n + 1] + c * line[n + 2] + d * line[n + 3]
            for n in range(count):
                most[n] = max(most[n], abs(row[n]))


@kernel(error_model="numpy")
def _gains(allowed, gain, length, release, state):  # type: ignore[no-untyped-def]
    """The gain of each sample from the gains that are allowed ahead of it."""
    room = length + 2
    first = (length + 1) // 2
    second = length + 1 - first
    least = np.empty(room + len(allowed))
    least[:room] = state[1 : 1 + room]
    least[room:] = allowed
    free = np.empty(room + len(allowed))
    free[:room] = state[1 + room : 1 + 2 * room]
    smooth = np.empty(room + len(allowed))
    smooth[:room] = state[1 + 2 * room : 1 + 3 * room]
    held = state[0]
    queue = np.empty(room + len(allowed), np.int64)
    head = tail = 0
    for n in range(room):
        while tail > head and least[queue[tail - 1]] >= least[n]:
            tail -= 1
        queue[tail] = n
        tail += 1
    one = two = 0.0
    for k in range(room - first, room):
        one += free[k]
    for k in range(room - second, room):
        two += smooth[k]
    for n in range(room, room + len(allowed)):
        while tail > head and least[queue[tail - 1]] >= least[n]:
            tail -= 1
        queue[tail] = n
        tail += 1
        while queue[head] <= n - room:
            head += 1
        held += release * (1.0 - held)
        if held > 1.0 - 1e-9:
            held = 1.0
        held = min(held, least[queue[head]])
        free[n] = held
        one += held - free[n - first]
        smooth[n] = one / first
        two += smooth[n] - smooth[n - second]
        gain[n - room] = min(two / second, 1.0)
    last = len(least) - room
    state[0] = held
    state[1 : 1 + room] = least[last:]
    state[1 + room : 1 + 2 * room] = free[last:]
    state[1 + 2 * room : 1 + 3 * room] = smooth[last:]
