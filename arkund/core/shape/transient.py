"""Transient shaper: more or less attack, more or less sustain, whatever the level.

Two pairs of envelope followers run over the magnitude. A fast one above a slow-rising one means
that a hit has just begun; a slow-falling one above a fast-falling one means that it rings on.
Both are ratios, so a hit 20 dB quieter gets the same gain curve.
"""

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.shape.sides import louder_side

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
    audio: NDArray[np.float32],
    s: Settings,
    rate: int,
    state: NDArray[np.float64],
    key: NDArray[np.float32] | None = None,
) -> NDArray[np.float32]:
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
    level = np.ascontiguousarray(louder_side(heard))
    if audio.ndim == 1:
        out = np.empty_like(audio)
        sound = np.ascontiguousarray(audio)
        _shape(sound, level, s.attack_db, s.sustain_db, steps, state, out)
        return out
    before, sides = state.copy(), []
    for n in range(2):
        state[:] = before
        side = np.empty(len(audio), np.float32)
        _shape(
            np.ascontiguousarray(audio[:, n]), level, s.attack_db, s.sustain_db, steps, state, side
        )
        sides.append(side)
    return np.stack(sides, axis=1)


BLOCK = 256
"""Samples at a time: what depends on the sample before is kept apart from what does not, so that the
latter is computed several samples at once."""


@kernel(fastmath=True, error_model="numpy")
def _shape(x, key, attack_db, sustain_db, steps, state, out):  # type: ignore[no-untyped-def]
    begun, rings = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    gains = np.empty(BLOCK, np.float32)
    for start in range(0, len(x), BLOCK):
        n = min(BLOCK, len(x) - start)
        _follow(key[start : start + n], steps, state, begun, rings)
        _share(begun[:n])
        _share(rings[:n])
        _ease(begun, rings, n, attack_db, sustain_db, steps[5], state, gains)
        _apply(x[start : start + n], gains, out[start : start + n])


@kernel(fastmath=True, error_model="numpy")
def _follow(key, steps, state, begun, rings):  # type: ignore[no-untyped-def]
    """By how much the fast follower is over the slow one, and the long one over the short."""
    fast_rise, slow_rise, fall, short_fall, long_fall, _ = steps
    fast, slow, short, long = state[0], state[1], state[2], state[3]
    for n in range(len(key)):
        level = abs(np.float64(key[n])) + 1e-12
        fast += (fast_rise if level > fast else fall) * (level - fast)
        slow += (slow_rise if level > slow else fall) * (level - slow)
        short += (fast_rise if level > short else short_fall) * (level - short)
        long += (fast_rise if level > long else long_fall) * (level - long)
        begun[n] = fast / slow
        rings[n] = long / short
    state[0], state[1], state[2], state[3] = fast, slow, short, long


@kernel(fastmath=True, error_model="numpy")
def _share(ratio):  # type: ignore[no-untyped-def]
    """Each ratio as a share of `FULL_DB`, from 0 to 1, in place."""
    bits = ratio.view(np.int32)
    # dB of a ratio is 6.02 log2; the whole gain is reached at 9 dB of difference.
    scale = np.float32(6.020599913279624 / 9.0)
    one, two = np.float32(1.0), np.float32(2.8853900817779268)
    for n in range(len(ratio)):
        exponent = np.float32((bits[n] >> 23) - 127)
        mantissa = np.int32((bits[n] & 0x7FFFFF) | 0x3F800000).view(np.float32)
        t = (mantissa - one) / (mantissa + one)
        t2 = t * t
        # log2 m = 2 artanh t / ln 2; the series to t^9 is good to 1e-6 over [1, 2).
        series = one + t2 * (
            np.float32(1 / 3)
            + t2 * (np.float32(1 / 5) + t2 * (np.float32(1 / 7) + t2 * np.float32(1 / 9)))
        )
        share = scale * (exponent + two * t * series)
        ratio[n] = min(max(share, np.float32(0.0)), one)


@kernel(fastmath=True, error_model="numpy")
def _ease(begun, rings, frames, attack_db, sustain_db, smooth, state, gains):  # type: ignore[no-untyped-def]
    """The gain in dB on its way to what attack and sustain ask for."""
    gain = state[4]
    for n in range(frames):
        wanted = attack_db * begun[n] + sustain_db * rings[n] * (1.0 - begun[n])
        gain += smooth * (wanted - gain)
        if abs(gain) < 1e-5:
            gains[n] = 0.0
            if wanted == 0.0:
                gain = 0.0
        else:
            gains[n] = gain
    state[4] = gain


@kernel(fastmath=True, error_model="numpy")
def _apply(x, gains, out):  # type: ignore[no-untyped-def]
    """Each sample times its gain: two to the whole part by its bits, the rest by a polynomial."""
    for n in range(len(x)):
        power = gains[n] * np.float32(0.16609640474436813)
        whole = np.floor(power)
        f = (power - whole) * np.float32(0.6931471805599453)
        part = np.float32(1.0) + f * (
            np.float32(1.0)
            + f
            * (
                np.float32(1 / 2)
                + f
                * (
                    np.float32(1 / 6)
                    + f * (np.float32(1 / 24) + f * (np.float32(1 / 120) + f * np.float32(1 / 720)))
                )
            )
        )
        out[n] = x[n] * part * np.int32((np.int32(whole) + 127) << 23).view(np.float32)
