"""Outboard: what is sent to a box, and what comes back from it.

A sent file holds a ping, the sound, and the ping again, with silence between. Where the pings are found in the
return says by how many samples it is late and how far the box's clock drifts; how they come back says gain and
polarity; what is heard in the silence is noise. `brought_back` undoes all of that, so that what is left is what the
box does to the sound.
"""

from dataclasses import dataclass
from math import pi

import numpy as np
import soxr
from numpy.typing import NDArray
from scipy import fft, signal

from arkund.core.errors import ArkundError
from arkund.core.units import amplitude_to_db, db_to_amplitude, power_to_db

PING_S, PING_HZ, PING_DBFS = 0.2, (300.0, 6000.0), -12.0
LEAD_S, GAP_S, TAIL_S = 0.5, 0.3, 1.5
"""Silence before the first ping, beside each, and behind the second: the latest that a box may be."""

MOST_LATE_S = 1.4
CEILING_DBFS = -1.0
"""The sound is lowered where its peaks are higher, and raised as much when it comes back."""

FULL, CLIPPED_RUN = 0.9995, 3
"""So many samples in a row at the largest value of the file are a clip."""

HEARD_DB = 6.0
"""A ping whose correlation is nearer than this to the largest one elsewhere was not found."""

REACH = 64
DRIFT_PPM = 0.5
"""Less is within what two pings can tell, and is left."""

Sound = NDArray[np.float32]


@dataclass(frozen=True)
class Returned:
    """What a return says of its box. ``late_samples`` (at the beginning of the file) and ``drift_ppm`` (positive: it
    came back longer) are fractional; ``gain_db`` and ``polarity`` (1 or −1) are those of the pings; ``noise_dbfs`` is
    the RMS in the silence."""

    late_samples: float
    gain_db: float
    polarity: int
    drift_ppm: float
    noise_dbfs: float
    clipped_runs: int
    peak_dbfs: float


def ping(rate: int) -> Sound:
    """The ping, ``(frames,)``: a chirp over `PING_HZ`, faded at both ends, at `PING_DBFS` peak."""
    time = np.arange(round(PING_S * rate)) / rate
    sweep = signal.chirp(time, PING_HZ[0], PING_S, PING_HZ[1], phi=-90)
    window = signal.windows.tukey(len(time), 0.2)
    return (db_to_amplitude(PING_DBFS) * sweep * window).astype(np.float32)


def _middle_s() -> float:
    """Where in a ping its place is told, in s: a moment counts by the square of its frequency."""
    time = np.linspace(0, PING_S, 1001)
    hertz = PING_HZ[0] + (PING_HZ[1] - PING_HZ[0]) * time / PING_S
    weight = (hertz * signal.windows.tukey(len(time), 0.2)) ** 2
    return float(np.sum(weight * time) / np.sum(weight))


def sent(sound: Sound, rate: int) -> tuple[Sound, float]:
    """What is written for a box, ``(frames, sides)``, of ``sound`` ``(frames, sides)``; and the gain in dB by which the
    sound was lowered to stay under full scale. Both pings are on every side."""
    peak = amplitude_to_db(float(np.abs(sound).max(initial=0.0)))
    gain_db = min(0.0, CEILING_DBFS - peak)
    first, start, second, length = _places(len(sound), rate)
    out = np.zeros((length, sound.shape[1]), np.float32)
    out[start : start + len(sound)] = sound * np.float32(db_to_amplitude(gain_db))
    for at in (first, second):
        out[at : at + round(PING_S * rate)] += ping(rate)[:, None]
    return out, gain_db


def _places(frames: int, rate: int) -> tuple[int, int, int, int]:
    """Samples at which the first ping, the sound and the second ping begin, and how many there are in all."""
    lead, gap, own, tail = (round(s * rate) for s in (LEAD_S, GAP_S, PING_S, TAIL_S))
    start = lead + own + gap
    second = start + frames + gap
    return lead, start, second, second + own + tail


def measured(returned: Sound, frames: int, rate: int) -> Returned:
    """What a return ``(frames, sides)`` of a sound of ``frames`` at ``rate`` says of its box.

    Raises `ArkundError` where the return is too short, silent, or a ping is not in it.
    """
    first, _, second, length = _places(frames, rate)
    mono = returned.mean(axis=1, dtype=np.float64)
    if len(mono) < second + round(PING_S * rate):
        raise ArkundError(
            f"The return is {len(mono) / rate:.2f} s long, what was sent is {length / rate:.2f} s: "
            "its end is missing. Record it to the end of the file."
        )
    if not np.abs(mono).max() > 0:
        raise ArkundError(
            "The return is silent. Check the cabling and the input, and record it again."
        )
    here = _found(mono, first, rate, "first")
    there = _found(mono, second, rate, "second")
    drift = (there[0] - here[0]) / (second - first)
    late = here[0] - drift * (first + _middle_s() * rate)
    gain = (abs(here[1]) * abs(there[1])) ** 0.5
    gap = round(GAP_S * rate)
    quiet = returned[round(first + here[0]) - gap : round(first + here[0]) - gap // 8]
    runs = sum(_clipped_runs(returned[:, side]) for side in range(returned.shape[1]))
    return Returned(
        round(late, 3),
        round(amplitude_to_db(gain), 3),
        1 if here[1] > 0 else -1,
        round(1e6 * drift, 2),
        round(
            power_to_db(float(np.mean(np.square(quiet, dtype=np.float64)))) if len(quiet) else 0.0,
            1,
        ),
        runs,
        round(amplitude_to_db(float(np.abs(returned).max())), 2),
    )


def _found(mono: NDArray[np.float64], at: int, rate: int, which: str) -> tuple[float, float]:
    """By how many samples (fractional) the ping sent ``at`` is late, and its gain with its sign."""
    own = ping(rate).astype(np.float64)
    before = min(at, round(0.1 * rate))
    part = mono[at - before : at + round(MOST_LATE_S * rate) + len(own)]
    heard = signal.correlate(part, own, "valid", "fft")
    most = int(np.argmax(np.abs(heard)))
    beside = np.delete(np.abs(heard), slice(max(0, most - len(own)), most + len(own)))
    if len(beside) and heard[most] ** 2 < db_to_amplitude(HEARD_DB) ** 2 * beside.max() ** 2:
        raise ArkundError(
            f"The {which} ping is not in the return. Send the whole file, pings included, and record it from "
            "its beginning to its end; noise or another sound may hide it."
        )
    late = most - before + _between(heard, most)
    # By the part of the ping that is in step: least squares of what came back by what was sent.
    moved = _delayed(own, late - np.floor(late))
    placed = part[before + int(np.floor(late)) :][: len(moved)]
    gain = float(np.dot(placed, moved[: len(placed)]) / np.dot(own, own))
    return late, gain


def _between(heard: NDArray[np.float64], most: int) -> float:
    """Where between samples a correlation is largest: its spectrum, read eight times as finely, then a parabola."""
    low = max(0, most - 32)
    near = np.sign(heard[most]) * heard[low : most + 33]
    fine = signal.resample(near, 8 * len(near))
    top = int(np.argmax(fine[8 * 8 : -8 * 8])) + 64 if len(near) > 20 else int(np.argmax(fine))
    left, mid, right = fine[max(top - 1, 0)], fine[top], fine[min(top + 1, len(fine) - 1)]
    bend = left - 2 * mid + right
    return (top + (0.5 * (left - right) / bend if bend else 0.0)) / 8 - (most - low)


def _delayed(sound: NDArray[np.float64], samples: float) -> NDArray[np.float64]:
    """``(frames,)`` later by a fraction of samples, with `REACH` more at its end."""
    padded = fft.next_fast_len(len(sound) + REACH, real=True)
    spectrum = fft.rfft(sound, padded) * np.exp(-2j * pi * fft.rfftfreq(padded) * samples)
    return np.asarray(fft.irfft(spectrum, padded)[: len(sound) + REACH])


def _clipped_runs(side: Sound) -> int:
    """Runs of at least `CLIPPED_RUN` samples at full scale."""
    at = np.concatenate(([0], (np.abs(side) >= FULL).astype(np.int8), [0]))
    starts, ends = (np.flatnonzero(np.diff(at) == step) for step in (1, -1))
    return int(np.sum(ends - starts >= CLIPPED_RUN))


def brought_back(returned: Sound, found: Returned, frames: int, rate: int, gain_db: float) -> Sound:
    """The sound in a return, ``(frames, sides)``: in place to a fraction of a sample, at the box's drift undone, at the
    polarity and level that it was sent from; ``gain_db`` is what `sent` lowered it by."""
    sound, late, start = returned, found.late_samples, _places(frames, rate)[1]
    if abs(found.drift_ppm) >= DRIFT_PPM:
        stretch = 1 + 1e-6 * found.drift_ppm
        sound = soxr.resample(returned, rate * stretch, rate, quality="VHQ").astype(np.float32)
        late /= stretch
    whole = int(np.floor(late))
    # From 64 samples before, so that a move by a fraction has something to reach for.
    begins = start + whole - REACH
    part = np.zeros((frames + 2 * REACH, sound.shape[1]))
    taken = sound[max(0, begins) :][: len(part)]
    part[: len(taken)] = taken
    gain = found.polarity / db_to_amplitude(found.gain_db + gain_db)
    out = np.empty((frames, sound.shape[1]), np.float32)
    for side in range(sound.shape[1]):
        moved = _delayed(part[:, side], whole - late)
        out[:, side] = gain * moved[REACH : REACH + frames]
    return out
