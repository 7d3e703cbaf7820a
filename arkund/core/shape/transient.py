"""Transient shaper: more or less attack, more or less sustain, whatever the level.

Two pairs of envelope followers run over the magnitude. A fast one above a slow-rising one means
that a stroke has just begun; a slow-falling one above a fast-falling one means that it rings on.
Both are ratios, so a stroke 20 dB quieter gets the same gain curve.
"""

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray

FULL_DB = 9.0
"""Difference of the followers at which the whole of the asked-for gain is given."""

FAST_RISE_MS, SLOW_RISE_MS, FALL_MS = 0.4, 18.0, 45.0
SHORT_FALL_MS, LONG_FALL_MS = 25.0, 250.0


@dataclass(frozen=True)
class Settings:
    """Largest gain in dB on the attack (−12 to 12) and on the sustain (−24 to 12)."""

    attack_db: float
    sustain_db: float

    @property
    def is_transparent(self) -> bool:
        return self.attack_db == 0.0 and self.sustain_db == 0.0


def memory(rate: int) -> int:
    """Samples after which the slowest follower has fallen by 70 dB: what it then adds to a gain is
    below a thousandth of a dB."""
    return math.ceil(LONG_FALL_MS / 1000 * rate * 70 / 20 * math.log(10))


def new_state() -> NDArray[np.float64]:
    """State at rest: the four followers and the smoothed gain in dB."""
    return np.zeros(5)


def run(
    audio: NDArray[np.float32], s: Settings, rate: int, state: NDArray[np.float64],
    key: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:  # fmt: skip
    """``audio`` ``(frames,)``, or both sides ``(frames, 2)`` by the louder one, shaped; ``state``
    is carried from block to block. Where there is a ``key``, of one side or two, it is followed
    instead."""
    steps = np.array(
        [
            1 - math.exp(-1000 / (ms * rate))
            for ms in (FAST_RISE_MS, SLOW_RISE_MS, FALL_MS, SHORT_FALL_MS, LONG_FALL_MS, 0.3)
        ]
    )
    heard = audio if key is None else key
    level = np.ascontiguousarray(heard) if heard.ndim == 1 else np.abs(heard).max(axis=1)
    if audio.ndim == 1:
        out = np.empty_like(audio)
        sound = np.ascontiguousarray(audio)
        _shape(sound, level, s.attack_db, s.sustain_db, steps, state, out)
        return out
    before, sides = state.copy(), []
    for n in range(2):
        state[:] = before
        side = np.empty(len(audio), np.float32)
        _shape(np.ascontiguousarray(audio[:, n]), level, s.attack_db, s.sustain_db, steps, state,
               side)  # fmt: skip
        sides.append(side)
    return np.stack(sides, axis=1)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _log2(x):  # type: ignore[no-untyped-def]
    bits = np.float32(x).view(np.int32)
    mantissa = np.int32((bits & 0x7FFFFF) | 0x3F800000).view(np.float32)
    t = (mantissa - 1.0) / (mantissa + 1.0)
    t2 = t * t
    ln = 2.0 * t * (1.0 + t2 * (1 / 3 + t2 * (1 / 5 + t2 * (1 / 7 + t2 / 9))))
    return ((bits >> 23) - 127) + 1.4426950408889634 * ln


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _exp2(x):  # type: ignore[no-untyped-def]
    whole = np.floor(x)
    f = (x - whole) * 0.6931471805599453
    part = 1.0 + f * (1.0 + f * (0.5 + f * (1 / 6 + f * (1 / 24 + f * (1 / 120 + f / 720)))))
    return part * np.int32((np.int32(whole) + 127) << 23).view(np.float32)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _shape(x, key, attack_db, sustain_db, steps, state, out):  # type: ignore[no-untyped-def]
    fast_rise, slow_rise, fall, short_fall, long_fall, smooth = steps
    fast, slow, short, long, gain = state[0], state[1], state[2], state[3], state[4]
    # dB of a ratio is 6.02 log2; the whole gain is reached at FULL_DB (9 dB) of difference.
    scale = 6.020599913279624 / 9.0
    for n in range(len(x)):
        level = abs(key[n]) + 1e-12
        fast += (fast_rise if level > fast else fall) * (level - fast)
        slow += (slow_rise if level > slow else fall) * (level - slow)
        short += (fast_rise if level > short else short_fall) * (level - short)
        long += (fast_rise if level > long else long_fall) * (level - long)
        begun = min(max(scale * _log2(fast / slow), 0.0), 1.0) if fast > slow else 0.0
        rings = min(max(scale * _log2(long / short), 0.0), 1.0) if long > short else 0.0
        wanted = attack_db * begun + sustain_db * rings * (1.0 - begun)
        gain += smooth * (wanted - gain)
        if abs(gain) < 1e-5:
            out[n] = x[n]
            if wanted == 0.0:
                gain = 0.0
        else:
            out[n] = np.float32(x[n] * _exp2(gain * 0.16609640474436813))
    state[0], state[1], state[2], state[3], state[4] = fast, slow, short, long, gain
