"""Saturation: peaks bend by a curve without memory, at eight times the rate.

Each sample of the raised rate is the mean of the curve between the two inputs it lies between
(its antiderivative's difference, Parker, Zavalishin and Le Bivic 2016), which takes off most of
what would fold back; the rest lies so high that the filter on the way down removes it. With four
times the rate alone the hard curve folds back at −42 dBFS where 24 dB of drive meet 5 kHz.
"""

import math
from dataclasses import dataclass
from functools import cache

import numpy as np
import scipy
from numba import njit
from numpy.typing import NDArray

RISE = 8
"""Times the rate at which the curve is applied."""

TAPS = 48
"""Taps of each of the filters' phases; also their delay in samples there and back."""

SOFT, HARD, ASYMMETRICAL = 0, 1, 2
BIAS = 0.4
"""Where the asymmetrical curve has its rest: one side bends sooner, which makes even harmonics."""


@dataclass(frozen=True)
class Settings:
    """``curve`` soft (x/√(1+x²)), hard (straight to full scale, then flat) or asymmetrical; drive 0 to
    24 dB into it; ``matched`` takes the drive off again behind it, so that what is soft keeps its
    level; mix 0 to 1."""

    curve: int
    drive_db: float
    matched: bool
    output_db: float = 0.0
    mix: float = 1.0


def latency() -> int:
    """Samples that pass before what goes in comes out."""
    return TAPS


def bent(level: NDArray[np.float64], s: Settings) -> NDArray[np.float64]:
    """What the curve makes of amplitudes, by its definition and without filters."""
    x = np.asarray(level, np.float64) * 10 ** (s.drive_db / 20)
    if s.curve == HARD:
        wet = np.clip(x, -1.0, 1.0)
    else:
        bias = BIAS if s.curve == ASYMMETRICAL else 0.0
        rest, scale = _rest(bias)
        wet = ((x + bias) / np.sqrt(1 + (x + bias) ** 2) - rest) * scale
    wet = wet * _behind(s)
    return s.mix * wet + (1 - s.mix) * np.asarray(level)


def _rest(bias: float) -> tuple[float, float]:
    """What the soft curve gives at ``bias``, and the factor that makes its slope there 1."""
    return bias / math.sqrt(1 + bias * bias), float((1 + bias * bias) ** 1.5)


def _behind(s: Settings) -> float:
    """Gain behind the curve."""
    return float(10 ** ((s.output_db - (s.drive_db if s.matched else 0.0)) / 20))


@cache
def _filters() -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Phases of the filter up ``(TAPS, RISE)``, and the filter down ``(RISE * TAPS + 1,)``.

    The mean of two neighbours is half a sample late; the one filter has an even, the other an odd
    number of taps, so that all together take exactly `TAPS` samples.
    """
    up = scipy.signal.firwin(RISE * TAPS, 0.92 / RISE, window=("kaiser", 10.0)) * RISE
    down = scipy.signal.firwin(RISE * TAPS + 1, 0.92 / RISE, window=("kaiser", 10.0))
    return np.ascontiguousarray(up.reshape(TAPS, RISE)[::-1]), np.ascontiguousarray(down[::-1])


def new_state(sides: int = 1) -> NDArray[np.float64]:
    """State at rest: the last inputs, the last raised samples and the last driven one, a side."""
    return np.zeros((sides, 2 * TAPS + RISE * TAPS + 1))


def run(audio: NDArray[np.float32], s: Settings, state: NDArray[np.float64]) -> NDArray[np.float32]:
    """``audio`` ``(frames,)`` or ``(frames, 2)`` bent, `latency` samples late; ``state`` ``(sides,
    n)`` is carried from block to block."""
    up, down = _filters()
    bias = BIAS if s.curve == ASYMMETRICAL else 0.0
    rest, scale = _rest(bias)
    out = np.empty_like(audio)
    sides = audio[:, None] if audio.ndim == 1 else audio
    wet = out[:, None] if audio.ndim == 1 else out
    for side in range(sides.shape[1]):
        one = np.zeros(len(audio), np.float32)
        _bend(np.ascontiguousarray(sides[:, side]), one, up, down, s.curve,
              10 ** (s.drive_db / 20), bias, rest, scale * _behind(s), s.mix, state[side])  # fmt: skip
        wet[:, side] = one
    return out


@njit(cache=True, nogil=True, error_model="numpy", inline="always")
def _mean_of_hard(a, b):  # type: ignore[no-untyped-def]
    """Mean of the hard curve between two inputs."""
    if abs(a) <= 1.0 and abs(b) <= 1.0:
        return 0.5 * (a + b)
    if abs(b - a) < 1e-5:
        return min(max(0.5 * (a + b), -1.0), 1.0)
    area_a = 0.5 * a * a if abs(a) < 1.0 else abs(a) - 0.5
    area_b = 0.5 * b * b if abs(b) < 1.0 else abs(b) - 0.5
    return (area_b - area_a) / (b - a)


@njit(cache=True, nogil=True, fastmath={"reassoc", "contract"}, error_model="numpy")
def _bend(x, out, up, down, curve, drive, bias, rest, scale, mix, state):  # type: ignore[no-untyped-def]
    taps, rise = up.shape
    length = rise * taps
    risen = np.zeros(rise)
    # Both histories are written forward and read in one run; they begin again when they are full.
    room = 4096
    past = np.zeros(room + 2 * taps)
    raised = np.zeros(rise * room + length + 1)
    past[: 2 * taps] = state[: 2 * taps]
    raised[:length] = state[2 * taps : 2 * taps + length]
    before = state[2 * taps + length]
    # The soft curve's antiderivative is √(1+x²), so its mean between two inputs is their sum over
    # the sum of their antiderivatives, however near they are.
    hard = curve == 1
    area = math.sqrt(1.0 + (before + bias) ** 2)
    done = 0
    while done < len(x):
        count = min(room, len(x) - done)
        for n in range(count):
            past[2 * taps + n] = x[done + n]
            risen[:] = 0.0
            for k in range(taps):
                one = past[taps + n + 1 + k]
                for p in range(rise):
                    risen[p] += up[k, p] * one
            for p in range(rise):
                now = drive * risen[p]
                if hard:
                    bent = _mean_of_hard(before, now)
                else:
                    next_area = math.sqrt(1.0 + (now + bias) * (now + bias))
                    bent = (now + before + 2.0 * bias) / (next_area + area)
                    area = next_area
                raised[length + rise * n + p] = (bent - rest) * scale
                before = now
            wet = 0.0
            for k in range(length + 1):
                wet += down[k] * raised[rise * n + k]
            out[done + n] = mix * wet + (1.0 - mix) * past[taps + n]
        for k in range(2 * taps):
            past[k] = past[count + k]
        for k in range(length):
            raised[k] = raised[rise * count + k]
        done += count
    state[: 2 * taps] = past[: 2 * taps]
    state[2 * taps : 2 * taps + length] = raised[:length]
    state[2 * taps + length] = before
