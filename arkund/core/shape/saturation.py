"""Saturation: peaks bend by a curve without memory, at four or eight times the rate.

Each sample of the raised rate is the mean of the curve between the two inputs it lies between
(its antiderivative's difference, Parker, Zavalishin and Le Bivic 2016), which takes off most of
what would fold back; the rest lies so high that the filter on the way down removes it. At four
times the rate, what 5 kHz at −6 dBFS fold back is under −110 dBFS for the soft curves up to
`GENTLE_DB` of drive. At 24 dB they, and the hard curve at any drive, need eight times.
"""

import math
from dataclasses import dataclass
from functools import cache

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.shape.sides import are_alike

RISE, STEEP_RISE = 4, 8
"""Times the rate at which soft and steep curves are applied."""

GENTLE_DB = 18.0
"""Up to so much drive a soft curve is soft."""

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

    @property
    def rise(self) -> int:
        """Times the rate at which the curve is applied."""
        gentle = self.curve != HARD and self.drive_db <= GENTLE_DB
        return RISE if gentle else STEEP_RISE


def latency() -> int:
    """Samples that pass before what goes in comes out."""
    return TAPS


def bent(level: NDArray[np.float64], s: Settings) -> NDArray[np.float64]:
    """What the curve makes of amplitudes ``(n,)``, by its definition and without filters."""
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
def _filters(rise: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Phases of the filter up ``(TAPS, rise)``, and the filter down ``(rise * TAPS + 1,)``.

    The mean of two neighbours is half a sample late; the one filter has an even, the other an odd
    number of taps, so that all together take exactly `TAPS` samples. It also is a little duller,
    which the filter down makes good.
    """
    edge = 0.92 / rise
    up = scipy.signal.firwin(rise * TAPS, edge, window=("kaiser", 10.0)) * rise
    passed = np.linspace(0, edge, 64)
    down = scipy.signal.firwin2(
        rise * TAPS + 1,
        [*passed, edge, 1.0],
        [*(1 / np.cos(np.pi / 2 * passed)), 0.0, 0.0],
        nfreqs=8193,
        window=("kaiser", 10.0),
    )
    rows = np.ascontiguousarray(up.reshape(TAPS, rise)[::-1])
    return rows.astype(np.float32), np.ascontiguousarray(down[::-1]).astype(np.float32)


def new_state(s: Settings, sides: int = 1) -> NDArray[np.float64]:
    """State at rest: the last inputs, the last raised samples and the last driven one, a side."""
    return np.zeros((sides, 2 * TAPS + s.rise * TAPS + 1))


def run(audio: NDArray[np.float32], s: Settings, state: NDArray[np.float64]) -> NDArray[np.float32]:
    """``audio`` ``(frames,)`` or ``(frames, 2)`` bent, `latency` samples late; ``state`` ``(sides,
    n)`` is carried from block to block."""
    up, down = _filters(s.rise)
    bias = BIAS if s.curve == ASYMMETRICAL else 0.0
    rest, scale = _rest(bias)
    out = np.empty_like(audio)
    sides = audio[:, None] if audio.ndim == 1 else audio
    wet = out[:, None] if audio.ndim == 1 else out
    alike = sides.shape[1] == 2 and are_alike(audio, state[0], state[1])
    for side in range(1 if alike else sides.shape[1]):
        one = np.zeros(len(audio), np.float32)
        _bend(
            np.ascontiguousarray(sides[:, side]),
            one,
            up,
            down,
            s.curve,
            10 ** (s.drive_db / 20),
            bias,
            rest,
            scale * _behind(s),
            s.mix,
            state[side],
        )
        wet[:, side] = one
    if alike:
        wet[:, 1], state[1] = wet[:, 0], state[0]
    return out


ROOM = 4096
"""Samples at a time. Each phase of the raised rate is a row, so that every loop runs along samples
that do not depend on each other."""


@kernel(fastmath=True, error_model="numpy")
def _bend(x, out, up, down, curve, drive, bias, rest, scale, mix, state):  # type: ignore[no-untyped-def]
    taps, rise = up.shape
    length = rise * taps
    past = np.zeros(2 * taps + ROOM, np.float32)
    # What goes into the curve, one sample of each phase behind; what comes out, `taps` behind.
    driven = np.zeros((rise, ROOM + 1), np.float32)
    area = np.zeros((rise, ROOM + 1), np.float32)
    raised = np.zeros((rise, taps + ROOM), np.float32)
    for n in range(2 * taps):
        past[n] = state[n]
    for n in range(taps):
        for p in range(rise):
            raised[p, n] = state[2 * taps + rise * n + p]
    before = np.float32(state[2 * taps + length])
    total = np.zeros(ROOM, np.float32)
    for done in range(0, len(x), ROOM):
        count = min(ROOM, len(x) - done)
        past[2 * taps : 2 * taps + count] = x[done : done + count]
        driven[rise - 1, 0] = before
        for p in range(rise):
            row = driven[p, 1 : 1 + count]
            row[:] = np.float32(0.0)
            for k in range(0, taps, 4):
                _add_four(row, past[taps + 1 + k :], up[k : k + 4, p], np.float32(drive))
        if curve == 1:
            for p in range(rise):
                _hard(driven, p, count, np.float32(scale), raised[p, taps:])
        else:
            _areas(driven, area, count, np.float32(bias))
            for p in range(rise):
                _soft(
                    driven,
                    area,
                    p,
                    count,
                    np.float32(bias),
                    np.float32(rest),
                    np.float32(scale),
                    raised[p, taps:],
                )
        total[:count] = down[length] * raised[0, taps : taps + count]
        for p in range(rise):
            for j in range(0, taps, 4):
                _add_four(total[:count], raised[p, j:], down[p + rise * j :: rise], np.float32(1.0))
        wet, dry = np.float32(mix), np.float32(1.0 - mix)
        for n in range(count):
            out[done + n] = wet * total[n] + dry * past[taps + n]
        before = driven[rise - 1, count]
        for k in range(2 * taps):
            past[k] = past[count + k]
        for p in range(rise):
            for k in range(taps):
                raised[p, k] = raised[p, count + k]
    for n in range(2 * taps):
        state[n] = past[n]
    for n in range(taps):
        for p in range(rise):
            state[2 * taps + rise * n + p] = raised[p, n]
    state[2 * taps + length] = before


@kernel(fastmath=True, error_model="numpy")
def _add_four(total, sound, taps, gain):  # type: ignore[no-untyped-def]
    """Four taps of a filter along ``sound``, added to ``total``."""
    a, b, c, d = taps[0] * gain, taps[1] * gain, taps[2] * gain, taps[3] * gain
    for n in range(len(total)):
        total[n] += a * sound[n] + b * sound[n + 1] + c * sound[n + 2] + d * sound[n + 3]


@kernel(fastmath=True, error_model="numpy")
def _areas(driven, area, count, bias):  # type: ignore[no-untyped-def]
    """The soft curve's antiderivative √(1+x²) at every input, the last one before them too."""
    for p in range(len(driven)):
        for n in range(count + 1):
            one = driven[p, n] + bias
            area[p, n] = np.sqrt(np.float32(1.0) + one * one)


@kernel(fastmath=True, error_model="numpy")
def _soft(driven, area, p, count, bias, rest, scale, raised):  # type: ignore[no-untyped-def]
    """Mean of the soft curve between an input and the one before it: their sum over the sum of their
    antiderivatives, however near they are."""
    q, back = (p - 1, 1) if p else (len(driven) - 1, 0)
    now, then = driven[p, 1:], driven[q, back:]
    here, there = area[p, 1:], area[q, back:]
    twice = np.float32(2.0) * bias
    for n in range(count):
        mean = (now[n] + then[n] + twice) / (here[n] + there[n])
        raised[n] = (mean - rest) * scale


@kernel(fastmath=True, error_model="numpy")
def _hard(driven, p, count, scale, raised):  # type: ignore[no-untyped-def]
    """Mean of the hard curve between an input and the one before it."""
    q, back = (p - 1, 1) if p else (len(driven) - 1, 0)
    now, then = driven[p, 1:], driven[q, back:]
    for n in range(count):
        a, b = np.float64(then[n]), np.float64(now[n])
        size_a, size_b = abs(a), abs(b)
        area_a = 0.5 * a * a if size_a < 1.0 else size_a - 0.5
        area_b = 0.5 * b * b if size_b < 1.0 else size_b - 0.5
        gap = b - a
        middle = min(max(0.5 * (a + b), -1.0), 1.0)
        near = abs(gap) < 1e-5
        mean = middle if near else (area_b - area_a) / (gap if not near else 1.0)
        raised[n] = np.float32(mean) * scale
