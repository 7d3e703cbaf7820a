"""Reverberation: a feedback delay network with measured diffusion.

Eight delay lines feed each other through a Hadamard matrix, which loses nothing; what decays is lost in each line by
its length, in three bands (Jot and Chaigne 1991). What comes in is diffused by four all-passes a side (Schroeder
1962), so that echoes are dense before the lines come round, and both sides go into lines of their own and leave by
signs that are orthogonal: true stereo. Line lengths share no factor. A room has early reflections, a plate none.
"""

import math
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from arkund.core.shape.network import BLOCK, LINES, reverberate
from arkund.core.units import SPEED_OF_SOUND_M_S

LINE_MS = (29.7, 34.1, 38.9, 43.7, 48.1, 54.3, 59.9, 66.7)
"""Lengths of the lines in a room of `USUAL_M`."""

DIFFUSER_MS = ((1.93, 3.37, 5.71, 8.83), (2.11, 3.61, 5.23, 8.29))
"""Lengths of the all-passes of each side, the same in every size."""

DIFFUSION = (0.75, 0.72, 0.65, 0.6)
EARLY = (
    ((1.00, 1.0), (1.37, -0.8), (1.83, 0.7), (2.41, -0.6), (2.97, 0.55), (3.71, -0.4)),
    ((1.11, 1.0), (1.49, 0.8), (1.71, -0.7), (2.29, 0.6), (3.17, -0.5), (3.89, 0.4)),
)
"""Early reflections of each side: in how many times the room's size they come, and how strong."""

USUAL_M = 10.0
BY_SIZE = 0.85
"""Lines grow less than the room: in a small one they would have too few modes, in a large one too thin a tail."""

LOW_HZ, MOST_MOD_MS = 250.0, 1.0
FORGOTTEN_DB = 80.0

MOST_LEVEL = 8.0
"""A tail that is over before the lines come round is not lifted without end."""


@dataclass(frozen=True)
class Settings:
    """``pre_delay_ms`` 0 to 250; ``size_m`` 3 to 25; ``decay_s`` to −60 dB between the bands' borders; decay of lows
    (under `LOW_HZ`) and of highs (above ``high_hz``) as factors of it; ``early`` their level beside the tail, 0 for a
    plate; ``width`` 0 (mono) to 1; one-pole cuts twice over; modulation's depth in ms and rate in Hz."""

    pre_delay_ms: float
    size_m: float
    decay_s: float
    low_factor: float
    high_factor: float
    high_hz: float
    early: float
    width: float
    low_cut_hz: float
    high_cut_hz: float
    mod_ms: float
    mod_hz: float


@dataclass(frozen=True)
class _Plan:
    """Settings at a rate, as the kernel takes them."""

    lengths: NDArray[np.int64]
    offsets: NDArray[np.int64]
    size: int
    taps: NDArray[np.int64]
    strengths: NDArray[np.float64]
    filters: NDArray[np.float64]
    values: NDArray[np.float64]


def memory(s: Settings, rate: int) -> int:
    """Samples until the tail is `FORGOTTEN_DB` down, the slowest band's."""
    slowest = s.decay_s * max(1.0, s.low_factor, s.high_factor) * FORGOTTEN_DB / 60
    return math.ceil(rate * (slowest + s.pre_delay_ms / 1000 + 0.1))


def new_state(s: Settings, rate: int) -> NDArray[np.float64]:
    """A silent room."""
    return np.zeros(_plan(s, rate).size)


def run(
    audio: NDArray[np.float32], s: Settings, rate: int, state: NDArray[np.float64], at: int
) -> NDArray[np.float32]:
    """The reverberation alone of ``(frames,)`` or ``(frames, 2)``, in the same shape; ``at`` is the sample of the song
    with which it begins."""
    plan = _plan(s, rate)
    both = audio if audio.ndim == 2 else np.stack([audio, audio], axis=1)
    out = np.empty((len(both), 2), np.float32)
    sound = np.ascontiguousarray(both, np.float32)
    reverberate(
        sound,
        out,
        state,
        plan.lengths,
        plan.offsets,
        plan.taps,
        plan.strengths,
        plan.filters,
        plan.values,
        at,
    )
    return out if audio.ndim == 2 else out.mean(axis=1, dtype=np.float32)


@lru_cache(maxsize=64)
def _plan(s: Settings, rate: int) -> _Plan:
    per_ms = rate / 1000
    lines = _coprime([ms * per_ms * (s.size_m / USUAL_M) ** BY_SIZE for ms in LINE_MS])
    passes = [_coprime([ms * per_ms for ms in side]) for side in DIFFUSER_MS]
    pre = round(s.pre_delay_ms * per_ms)
    reach = [
        [pre + round(t * s.size_m / SPEED_OF_SOUND_M_S * rate) for t, _ in side] for side in EARLY
    ]
    front = max(max(side) for side in reach) + BLOCK
    swing = math.ceil(MOST_MOD_MS * per_ms) + 4
    # A side's front, its four all-passes; then the lines, with room to swing.
    lengths = [front, *passes[0], front, *passes[1], *(n + swing for n in lines)]
    offsets = np.concatenate([[0], np.cumsum(lengths)])
    filters = np.array([_losses(n / rate, s, rate) for n in lines])
    # Of what goes in, the tail gives back as much whatever its decay and size.
    once = 10 ** (-3 * float(np.mean(lines)) / rate / s.decay_s)
    level = min(math.sqrt(1 - once * once) / once, MOST_LEVEL)
    values = np.array(
        [
            pre,
            s.early,
            level,
            s.width,
            _pole(s.low_cut_hz, rate),
            _pole(s.high_cut_hz, rate),
            min(s.mod_ms, MOST_MOD_MS) * per_ms,
            2 * math.pi * s.mod_hz / rate,
            *lines,
        ]
    )
    marks = 2 * (LINES + 1) + LINES * 4 + 8
    return _Plan(
        np.array(lengths, np.int64),
        offsets.astype(np.int64) + marks,
        int(offsets[-1]) + marks,
        np.array(reach, np.int64),
        np.array([*([gain for _, gain in side] for side in EARLY), [*DIFFUSION, 0.0, 0.0]]),
        np.ascontiguousarray(filters.T),
        values,
    )


def _coprime(wanted: list[float]) -> list[int]:
    """Whole lengths near those wanted that share no factor with each other."""
    out: list[int] = []
    for length in wanted:
        n = max(round(length), 2)
        while any(math.gcd(n, other) > 1 for other in out):
            n += 1
        out.append(n)
    return out


def _losses(line_s: float, s: Settings, rate: int) -> list[float]:
    """What a line of so many seconds takes off: a gain, a low shelf and a high shelf of the first order."""
    middle = -60 * line_s / s.decay_s
    low = middle / s.low_factor - middle
    high = middle / s.high_factor - middle
    return [10 ** (middle / 20), *_low_shelf(low, rate), *_high_shelf(high, s.high_hz, rate)]


def _low_shelf(db: float, rate: int) -> list[float]:
    """b0, b1, a1 of a shelf of so many dB below `LOW_HZ`, 0 dB above."""
    g, k = 10 ** (db / 40), math.tan(math.pi * LOW_HZ / rate)
    a0 = 1 + k / g
    return [(1 + k * g) / a0, (k * g - 1) / a0, (k / g - 1) / a0]


def _high_shelf(db: float, hz: float, rate: int) -> list[float]:
    """b0, b1, a1 of a shelf of so many dB above ``hz``, 0 dB below."""
    g, k = 10 ** (db / 40), math.tan(math.pi * min(hz, 0.45 * rate) / rate)
    a0 = k + 1 / g
    return [(k + g) / a0, (k - g) / a0, (k - 1 / g) / a0]


def _pole(hz: float, rate: int) -> float:
    return float(1 - math.exp(-2 * math.pi * min(hz, 0.49 * rate) / rate))
