"""Landmarks of a drum's sound: its fundamental, what rings on, where it is boxy, where it attacks."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.hits import hit_windows
from arkund.core.units import power_to_db

FUNDAMENTAL_HZ = {"kick": (35.0, 130.0), "snare": (120.0, 320.0), "tom": (52.0, 260.0)}
BOX_HZ = {"kick": (200.0, 700.0), "snare": (300.0, 650.0), "tom": (250.0, 800.0)}
ATTACK_HZ = {"kick": (2500.0, 5000.0), "snare": (1800.0, 5000.0), "tom": (3000.0, 6000.0)}
MOST_HITS = 40

STRONG_DB, CLEAR_DB = 4.0, 1.0
"""A line so far under the highest is strong; and what decides between two lines is more than so much."""

OUTLASTS = 1.5
"""Higher modes of a drum die sooner than its fundamental; a ring outlasts it so many times."""

SET_OFF_DB = 10.0
"""A ring is set off by the hit: its line must rise by so much with it."""

LEAST_RING_S = 0.3
LONGEST_RING_S = 3.0
"""What seems to ring longer than any drum is noise that hardly falls."""

LEAST_PROMINENCE_DB = 10.0

RING_BELOW_HZ = {"kick": 1000.0, "snare": 1800.0, "tom": 800.0}
"""Above this a line is more likely a cymbal's partial than the drum's."""


@dataclass(frozen=True)
class Ring:
    """A narrow line that outlasts the fundamental: frequency in Hz, its T60 and the
    fundamental's in s, and by how much it stands out 100 to 350 ms after the hit."""

    hz: float
    t60_s: float
    fundamental_t60_s: float
    prominence_db: float


@dataclass(frozen=True)
class Hump:
    """A broad excess over the line drawn between the edges of a range."""

    hz: float
    excess_db: float


def roomy(onsets_s: Sequence[float], length_s: float) -> list[float]:
    """The hits that have ``length_s`` to themselves before the next of the same drum; the half
    with the most room where fewer than four have."""
    times = np.sort(np.asarray(onsets_s, np.float64))
    if len(times) < 2:
        return list(times)
    gaps = np.append(np.diff(times), np.inf)
    free = times[gaps >= length_s]
    if len(free) < 4:
        free = times[np.argsort(-gaps, kind="stable")[: max(len(times) // 2, 1)]]
    return [float(t) for t in np.sort(free)[:: max(1, len(free) // MOST_HITS)]]


def _spectrum(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], start_s: float, stop_s: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """``(hz, dB)`` of the median power over hits between two times after the onset, finely
    interpolated by zero padding."""
    rows = hit_windows(audio, rate, list(onsets_s), 0.0, stop_s)[:, round(start_s * rate) :]
    size = scipy.fft.next_fast_len(max(rows.shape[1] * 4, rate // 2), real=True)
    power = (
        np.abs(scipy.fft.rfft(rows * scipy.signal.windows.hann(rows.shape[1]), size, axis=1)) ** 2
    )
    return scipy.fft.rfftfreq(size, 1 / rate), 10 * np.log10(np.median(power, axis=0) + 1e-14)


def fundamental_hz(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], family: str
) -> float:
    """Lowest strong line in Hz of a drum in ``audio`` ``(frames,)`` within its family's range; 0 without hits
    or family.

    The lowest peak within 4 dB of the range's highest, from 10 to 260 ms after the onset, placed
    by a parabola through three points.
    """
    return fundamental_line(audio, rate, onsets_s, family).hz


class Line(NamedTuple):
    """A fundamental in Hz, and by how many dB the spectrum would have to be otherwise for another line to be taken: 0
    where none stands out, infinite where there is no other."""

    hz: float
    margin_db: float

    @property
    def is_clear(self) -> bool:
        """Whether the line is told from others by more than chance."""
        return self.margin_db >= CLEAR_DB


def fundamental_line(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], family: str
) -> Line:
    """`fundamental_hz` with how clear it is."""
    if family not in FUNDAMENTAL_HZ or not len(onsets_s):
        return Line(0.0, 0.0)
    hz, db = _spectrum(audio, rate, roomy(onsets_s, 0.26), 0.01, 0.26)
    low, high = FUNDAMENTAL_HZ[family]
    first, last = np.searchsorted(hz, [low, high])
    peaks, _ = scipy.signal.find_peaks(db[first:last], prominence=3)
    if len(peaks) == 0:
        return Line(float(hz[first + np.argmax(db[first:last])]), 0.0)
    over_db = db[first + peaks] - (db[first + peaks].max() - STRONG_DB)
    chosen = int(np.argmax(over_db >= 0))
    # Lower lines are all but strong; the chosen one is, and only if it is not the highest can it cease to be.
    margins = [*(-over_db[:chosen]), *([over_db[chosen]] if over_db[chosen] < STRONG_DB else [])]
    return Line(_place(hz, db, first + int(peaks[chosen])), float(min(margins, default=np.inf)))


def rings(
    audio: NDArray[np.float32],
    rate: int,
    onsets_s: Sequence[float],
    fundamental: float,
    highest_hz: float,
) -> list[Ring]:
    """Rings above the fundamental of a drum in ``audio`` ``(frames,)``, the longest first.

    Candidates are peaks of the spectrum 100 to 350 ms after the onset. A ring rises with the
    hit by `SET_OFF_DB` or more and lasts `OUTLASTS` times as long as the fundamental.
    """
    chosen = roomy(onsets_s, 0.45)
    if len(chosen) < 4 or not fundamental:
        return []
    hz, db = _spectrum(audio, rate, chosen, 0.1, 0.35)
    trend = scipy.ndimage.median_filter(db, max(round(80 / hz[1]), 3) | 1)
    inside = (hz > max(1.25 * fundamental, 90.0)) & (hz < highest_hz)
    peaks, _ = scipy.signal.find_peaks(
        np.where(inside, db - trend, 0.0), height=LEAST_PROMINENCE_DB
    )
    loudest = db[(hz > 40) & (hz < highest_hz)].max()
    peaks = np.array([p for p in peaks if db[p] > loudest - 30.0], int)
    body = line_decay(audio, rate, chosen, fundamental)
    out: list[Ring] = []
    for p in sorted(peaks, key=lambda p: trend[p] - db[p])[:6]:
        at = _place(hz, db, int(p))
        if any(abs(at / r.hz - 1) < 0.08 for r in out):
            continue
        own = line_decay(audio, rate, chosen, at)
        long_enough = own.t60_s >= max(LEAST_RING_S, OUTLASTS * body.t60_s)
        if long_enough and own.t60_s <= LONGEST_RING_S and own.rise_db >= SET_OFF_DB:
            out.append(
                Ring(
                    round(at, 1),
                    round(own.t60_s, 2),
                    round(body.t60_s, 2),
                    round(float(db[p] - trend[p]), 1),
                )
            )
    return sorted(out, key=lambda r: -r.t60_s)


@dataclass(frozen=True)
class LineDecay:
    """How one line behaves around hits: T60 in s, and its rise in dB from the 100 ms before
    the onset to the 100 ms after."""

    t60_s: float
    rise_db: float


def line_decay(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], hz: float
) -> LineDecay:
    """Decay of the line at ``hz`` in ``audio`` ``(frames,)``: its level through a 60 ms Hann window, the median over
    hits, fitted by a straight line from its peak to 4 dB over where it ends or comes to rest."""
    before, after = 0.16, 0.6
    rows = hit_windows(audio, rate, list(onsets_s), before, after)
    length, hop = round(0.06 * rate), round(0.015 * rate)
    starts = np.arange(0, rows.shape[1] - length, hop)
    level = _line_levels(rows, rate, hz, starts, length)
    db = 20 * np.log10(np.median(level, axis=0) + 1e-9)
    centre = (starts + length / 2) / rate - before
    rest = float(np.median(db[centre < -0.03]))
    late = np.flatnonzero(centre > 0.02)
    peak = late[int(np.argmax(db[late]))]
    rise = float(db[peak] - rest)
    floor = max(rest, float(db[peak:].min())) + 4.0
    under = np.flatnonzero(db[peak:] < floor)
    stop = int(under[0]) if len(under) else len(db) - peak
    if stop < 4:
        # Gone within a few steps: what it fell by until then, not the floor it fell to.
        fell = max(float(db[peak] - db[min(peak + stop, len(db) - 1)]), 0.5)
        return LineDecay(float(np.clip(60 * max(stop, 1) * 0.015 / fell, 0.02, 6.0)), rise)
    slope = float(np.polyfit(centre[peak : peak + stop], db[peak : peak + stop], 1)[0])
    return LineDecay(float(np.clip(-60.0 / slope, 0.02, 6.0)) if slope < -1e-3 else 6.0, rise)


def _line_levels(
    rows: NDArray[np.float32], rate: int, hz: float, starts: NDArray[np.int64], length: int
) -> NDArray[np.float64]:
    """Level of the line at ``hz`` in each row ``(hits, frames)`` through Hann windows of
    ``length`` samples from each start on: ``(hits, starts)``."""
    window = scipy.signal.windows.hann(length)
    turn = 2 * np.pi * hz * np.arange(length) / rate
    line = np.stack([window * np.cos(turn), window * np.sin(turn)], axis=1).astype(rows.dtype)
    parts = np.stack([rows[:, s : s + length] @ line for s in starts], axis=1)
    return np.hypot(parts[..., 0], parts[..., 1], dtype=np.float64)


def late_t60_s(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], hz: float
) -> float:
    """T60 in s of the line at ``hz`` in ``audio`` ``(frames,)`` from 120 to 450 ms after hits that have half a
    second to
    themselves, through 100 ms Hann windows: what is left when the hit that set it off is over.
    0 without such a hit or where the line does not fall."""
    times = np.sort(np.asarray(onsets_s, np.float64))
    gaps = np.append(np.diff(times), np.inf)
    chosen = times[gaps >= 0.5][:MOST_HITS]
    if len(chosen) == 0:
        return 0.0
    rows = hit_windows(audio, rate, list(chosen), 0.0, 0.5)
    length = round(0.1 * rate)
    starts = np.arange(round(0.07 * rate), rows.shape[1] - length, round(0.02 * rate))
    level = _line_levels(rows, rate, hz, starts, length)
    db = 20 * np.log10(np.median(level, axis=0) + 1e-9)
    slope = float(np.polyfit(starts / rate, db, 1)[0])
    return -60.0 / slope if slope < -5.0 else 0.0


def line_prominence_db(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], hz: float
) -> float:
    """How far in dB the line at ``hz`` in ``audio`` ``(frames,)`` stands over the median a quarter to either
    side of it, 100 to
    350 ms after hits."""
    bins, db = _spectrum(audio, rate, list(onsets_s)[:MOST_HITS], 0.1, 0.35)
    off = np.abs(bins / hz - 1)
    return float(db[off < 0.03].max() - np.median(db[(off > 0.08) & (off < 0.3)]))


def hump(
    audio: NDArray[np.float32],
    rate: int,
    onsets_s: Sequence[float],
    span_hz: tuple[float, float],
) -> Hump:
    """The largest broad excess of ``audio`` ``(frames,)`` within ``span_hz`` over the straight line (in dB over log Hz)
    between the levels at its edges, of the hits' first 200 ms: the median over two thirds of an
    octave, so that a single line is no hump."""
    hz, fine = _spectrum(audio, rate, list(onsets_s)[:MOST_HITS], 0.0, 0.2)
    grid = np.geomspace(40, min(16000, 0.45 * rate), 208)
    db = scipy.ndimage.median_filter(np.interp(grid, hz, fine), 17, mode="nearest")
    hz, db = grid, scipy.ndimage.gaussian_filter1d(db, 3)
    low, high = span_hz
    edge = np.interp(np.log([low / 1.25, high * 1.25]), np.log(hz), db)
    inside = (hz >= low) & (hz <= high)
    line = np.interp(np.log(hz[inside]), np.log([low / 1.25, high * 1.25]), edge)
    excess = db[inside] - line
    at = int(np.argmax(excess))
    return Hump(round(float(hz[inside][at])), round(float(excess[at]), 1))


def attack_hz(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], span_hz: tuple[float, float]
) -> float:
    """Where in Hz the first 12 ms of the hits in ``audio`` ``(frames,)`` are strongest within a range, against
    their slope."""
    hz, db = _smooth(audio, rate, onsets_s, 0.0, 0.012)
    inside = (hz >= span_hz[0]) & (hz <= span_hz[1])
    return round(float(hz[inside][np.argmax(db[inside])]))


HIT_S = 0.1
"""So much of a hit tells how its octaves stand to each other."""


def under_loudest_db(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], hz: float
) -> float:
    """How far the octave around ``hz`` lies under the loudest one in a drum's hits in ``audio`` ``(frames,)``,
    in dB, 0 or less:
    the mean over `HIT_S` from each onset, as far as they have it to themselves."""
    rows = hit_windows(audio, rate, list(onsets_s)[:MOST_HITS], 0.002, HIT_S)
    fade = np.ones(rows.shape[1])
    fade[-len(fade) // 3 :] *= np.linspace(1, 0, len(fade[-len(fade) // 3 :]))
    power = np.median(np.abs(scipy.fft.rfft(rows * fade, 4 * rows.shape[1], axis=1)) ** 2, axis=0)
    bins = scipy.fft.rfftfreq(4 * rows.shape[1], 1 / rate)
    sums = np.concatenate([[0.0], np.cumsum(power)])

    def octave(centre: float) -> float:
        low, high = np.searchsorted(bins, [centre / np.sqrt(2), centre * np.sqrt(2)])
        return float(sums[high] - sums[low])

    top = min(16_000.0, 0.45 * rate / np.sqrt(2))
    loudest = max(octave(centre) for centre in np.geomspace(44, top, 52))
    return min(power_to_db(octave(hz) + 1e-30) - power_to_db(loudest + 1e-30), 0.0)


def _smooth(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], start_s: float, stop_s: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Levels over 24 points an octave, smoothed to half an octave."""
    hz, db = _spectrum(audio, rate, list(onsets_s)[:MOST_HITS], start_s, stop_s)
    grid = np.geomspace(40, min(16000, 0.45 * rate), 208)
    power = np.interp(grid, hz, 10 ** (db / 10))
    return grid, 10 * np.log10(scipy.ndimage.gaussian_filter1d(power, 5) + 1e-14)


def _place(hz: NDArray[np.float64], db: NDArray[np.float64], peak: int) -> float:
    """The top of a peak by the parabola through three points. At the end of a range what is highest may be a
    slope, whose parabola has its top anywhere: no more than half a bin is believed."""
    left, mid, right = db[peak - 1], db[peak], db[peak + 1]
    bend = left - 2 * mid + right
    off = 0.5 * (left - right) / bend if bend else 0.0
    return float(hz[peak] + np.clip(off, -0.5, 0.5) * hz[1])
