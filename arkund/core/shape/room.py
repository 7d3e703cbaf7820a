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

from arkund.core.kernel import kernel
from arkund.core.units import SPEED_OF_SOUND_M_S

LINES = 8
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

LEFT = (1, -1, 1, 1, 1, 1, -1, 1)
RIGHT = (1, 1, -1, 1, -1, 1, -1, -1)
"""Signs by which the lines leave to either side: orthogonal, and of all such pairs the one whose sum to mono is nearest
to the tail of one side, whichever side sound comes in from."""

USUAL_M = 10.0
BY_SIZE = 0.85
"""Lines grow less than the room: in a small one they would have too few modes, in a large one too thin a tail."""

LOW_HZ, MOST_MOD_MS = 250.0, 1.0
FORGOTTEN_DB = 80.0
QUIET = 1e-24
"""What is softer is nothing: processors are slow with numbers that are almost 0."""

SWINGING = 4
"""So many of the lines swing; the matrix hands it on to the others."""

BLOCK = 64
"""Samples that are worked on at a time, at most."""

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
    _run(
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


@kernel(fastmath=True, error_model="numpy")
def _taken(state, base, size, place, into, row, count):  # type: ignore[no-untyped-def]
    """So many samples out of a ring of ``size``, from ``place`` on, into a row."""
    if place < 0:
        place += size
    straight = min(size - place, count)
    for t in range(straight):
        into[row, t] = state[base + place + t]
    for t in range(straight, count):
        into[row, t] = state[base + place + t - size]


@kernel(fastmath=True, error_model="numpy")
def _added(state, base, size, place, gain, into, row, count):  # type: ignore[no-untyped-def]
    """`_taken`, times a gain, added to what stands in the row."""
    if place < 0:
        place += size
    straight = min(size - place, count)
    for t in range(straight):
        into[row, t] += gain * state[base + place + t]
    for t in range(straight, count):
        into[row, t] += gain * state[base + place + t - size]


@kernel(fastmath=True, error_model="numpy")
def _diffused(state, at, gain, into, row, start, stop):  # type: ignore[no-untyped-def]
    """Part of a row through an all-pass whose ring, as long as its delay, stands at ``at``."""
    for t in range(start, stop):
        old = state[at + t - start]
        new = into[row, t] + gain * old
        into[row, t] = old - gain * new
        state[at + t - start] = new if abs(new) > QUIET else 0.0


@kernel(fastmath=True, error_model="numpy")
def _put(state, base, size, place, block, row, count):  # type: ignore[no-untyped-def]
    """A row into a ring."""
    straight = min(size - place, count)
    for t in range(straight):
        state[base + place + t] = block[row, t]
    for t in range(straight, count):
        state[base + place + t - size] = block[row, t]


@kernel(fastmath=True, error_model="numpy")
def _run(sound, out, state, lengths, offsets, taps, strengths, filters, values, at):  # type: ignore[no-untyped-def]
    # No delay is shorter than a block, so within one nothing waits for anything.
    block = min(BLOCK, lengths.min())
    pre, early, level, width = int(values[0]), values[1], values[2], values[3]
    low_cut, high_cut, swing, step = values[4], values[5], values[6], values[7]
    lines, first = 8, 10
    cosine, sine = np.cos(step), np.sin(step)
    shelves = lengths.shape[0]
    cuts = shelves + 4 * lines
    every, soon = np.empty((2, block)), np.empty((2, block))
    late, into, wet = np.empty((lines, block)), np.empty((lines, block)), np.empty((2, block))
    for begin in range(0, len(sound), block):
        count = min(block, len(sound) - begin)
        for side in range(2):
            place = 5 * side
            head, size, base = int(state[place]), lengths[place], offsets[place]
            for t in range(count):
                every[side, t] = sound[begin + t, side]
            _put(state, base, size, head, every, side, count)
            for t in range(count):
                soon[side, t] = 0.0
            if early > 0.0:
                for tap in range(taps.shape[1]):
                    gain, place = early * strengths[side, tap], head - taps[side, tap]
                    _added(state, base, size, place, gain, soon, side, count)
            _taken(state, base, size, head - pre, every, side, count)
            state[5 * side] = (head + count) % size
            for n in range(4):
                place = 5 * side + 1 + n
                head, size, base = int(state[place]), lengths[place], offsets[place]
                straight = min(size - head, count)
                _diffused(state, base + head, strengths[2, n], every, side, 0, straight)
                _diffused(state, base, strengths[2, n], every, side, straight, count)
                state[place] = (head + count) % size
        for n in range(lines):
            head, size, base = int(state[first + n]), lengths[first + n], offsets[first + n]
            if swing > 0.0 and n < SWINGING:
                # The angle goes on with the song, whichever blocks it comes in.
                angle = step * (at + begin) + 1.570796 * n
                c, d = np.cos(angle), np.sin(angle)
                for t in range(count):
                    back = values[8 + n] + swing * (1 + d)
                    c, d = c * cosine - d * sine, d * cosine + c * sine
                    whole = int(back)
                    read = head + t - whole
                    read += size if read < 0 else 0
                    read -= size if read >= size else 0
                    after = read + 1 if read + 1 < size else 0
                    before = read - 1 if read > 0 else size - 1
                    oldest = before - 1 if before > 0 else size - 1
                    # Lagrange's cubic through four samples: a straight line would dull the highs.
                    p = back - whole
                    p1, p2, p3 = p + 1, p - 1, p - 2
                    late[n, t] = (
                        p1 * p2 * p3 / 2 * state[base + read]
                        - p1 * p * p3 / 2 * state[base + before]
                        + p1 * p * p2 / 6 * state[base + oldest]
                        - p * p2 * p3 / 6 * state[base + after]
                    )
            else:
                _taken(state, base, size, head - int(values[8 + n]), late, n, count)
            own = shelves + 4 * n
            x1, y1, y2 = state[own], state[own + 1], state[own + 2]
            f0, f1, f2, f3 = filters[0, n], filters[1, n], filters[2, n], filters[3, n]
            f4, f5, f6 = filters[4, n], filters[5, n], filters[6, n]
            for t in range(count):
                x = late[n, t] * f0
                low = f1 * x + f2 * x1 - f3 * y1
                high = f4 * low + f5 * y1 - f6 * y2
                x1, y1, y2, late[n, t] = x, low, high, high
            state[own], state[own + 1], state[own + 2] = x1, y1, y2
        for t in range(count):
            p0, p1, p2, p3 = late[0, t], late[1, t], late[2, t], late[3, t]
            p4, p5, p6, p7 = late[4, t], late[5, t], late[6, t], late[7, t]
            wet[0, t] = (
                LEFT[0] * p0
                + LEFT[1] * p1
                + LEFT[2] * p2
                + LEFT[3] * p3
                + LEFT[4] * p4
                + LEFT[5] * p5
                + LEFT[6] * p6
                + LEFT[7] * p7
            )
            wet[1, t] = (
                RIGHT[0] * p0
                + RIGHT[1] * p1
                + RIGHT[2] * p2
                + RIGHT[3] * p3
                + RIGHT[4] * p4
                + RIGHT[5] * p5
                + RIGHT[6] * p6
                + RIGHT[7] * p7
            )
            # Hadamard: sums and differences in three rounds.
            q0, q1, q2, q3 = p0 + p4, p1 + p5, p2 + p6, p3 + p7
            q4, q5, q6, q7 = p0 - p4, p1 - p5, p2 - p6, p3 - p7
            p0, p1, p2, p3 = q0 + q2, q1 + q3, q0 - q2, q1 - q3
            p4, p5, p6, p7 = q4 + q6, q5 + q7, q4 - q6, q5 - q7
            in_l, in_r, g = every[0, t], every[1, t], 0.35355339059327373
            into[0, t], into[1, t] = g * (p0 + p1) + in_l, g * (p0 - p1) + in_r
            into[2, t], into[3, t] = g * (p2 + p3) + in_l, g * (p2 - p3) + in_r
            into[4, t], into[5, t] = g * (p4 + p5) + in_l, g * (p4 - p5) + in_r
            into[6, t], into[7, t] = g * (p6 + p7) + in_l, g * (p6 - p7) + in_r
        for n in range(lines):
            head, size, base = int(state[first + n]), lengths[first + n], offsets[first + n]
            for t in range(count):
                into[n, t] = into[n, t] if abs(into[n, t]) > QUIET else 0.0
            _put(state, base, size, head, into, n, count)
            state[first + n] = (head + count) % size
        for t in range(count):
            left = level * 0.5 * wet[0, t] + soon[0, t]
            right = level * 0.5 * wet[1, t] + soon[1, t]
            middle, apart = 0.5 * (left + right), 0.5 * width * (left - right)
            wet[0, t], wet[1, t] = middle + apart, middle - apart
        for side in range(2):
            low1, high1 = state[cuts + 4 * side], state[cuts + 4 * side + 1]
            low2, high2 = state[cuts + 4 * side + 2], state[cuts + 4 * side + 3]
            for t in range(count):
                x = wet[side, t]
                low1 += low_cut * (x - low1)
                high1 += high_cut * (x - low1 - high1)
                low2 += low_cut * (high1 - low2)
                high2 += high_cut * (high1 - low2 - high2)
                out[begin + t, side] = high2
            state[cuts + 4 * side], state[cuts + 4 * side + 1] = low1, high1
            state[cuts + 4 * side + 2], state[cuts + 4 * side + 3] = low2, high2
