"""Pictures of a drum: its average hit's spectrum, envelope and ring."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.units import amplitudes_to_db


@dataclass(frozen=True)
class HitSpectrum:
    """Levels in dB over ``hz``, mean over hits and over the moments between them."""

    hz: NDArray[np.float64]
    hits_db: NDArray[np.float64]
    bleed_db: NDArray[np.float64]


def hit_windows(
    audio: NDArray[np.float32],
    rate: int,
    onsets_s: Sequence[float],
    before_s: float,
    after_s: float,
) -> NDArray[np.float32]:
    """``(hits, frames)``: the sound around each onset; what lies outside the file is silence."""
    before, length = round(before_s * rate), round((before_s + after_s) * rate)
    rows = np.zeros((len(onsets_s), length), np.float32)
    for row, onset in zip(rows, onsets_s, strict=True):
        start = round(onset * rate) - before
        first, last = max(start, 0), min(start + length, len(audio))
        if first < last:
            row[first - start : last - start] = audio[first:last]
    return rows


def hit_spectrum(
    audio: NDArray[np.float32],
    rate: int,
    own_s: Sequence[float],
    others_s: Sequence[float],
    points: int = 160,
) -> HitSpectrum:
    """Spectrum of a mic ``(frames,)`` at its own hits and at those of others (its bleed), log-spaced.

    Windows of 0.35 s, third-of-an-octave smoothing at the bottom narrowing to a twelfth.
    """
    hz = np.geomspace(25, min(18000, 0.45 * rate), points)
    own = np.asarray(own_s, np.float64)
    others = np.asarray(others_s, np.float64)
    if len(own) and len(others):
        others = others[np.min(np.abs(others[:, None] - own[None, :]), axis=1) > 0.15]
    return HitSpectrum(
        hz, _mean_spectrum(audio, rate, own, hz), _mean_spectrum(audio, rate, others, hz)
    )


def _mean_spectrum(
    audio: NDArray[np.float32], rate: int, onsets: NDArray[np.float64], hz: NDArray[np.float64]
) -> NDArray[np.float64]:
    if len(onsets) == 0:
        return np.full(len(hz), -120.0)
    chosen = onsets[:: max(1, len(onsets) // 60)]
    rows = hit_windows(audio, rate, list(chosen), 0.002, 0.35)
    fade = np.ones(rows.shape[1])
    tail = rows.shape[1] // 3
    fade[-tail:] = 0.5 + 0.5 * np.cos(np.linspace(0, np.pi, tail))
    size = scipy.fft.next_fast_len(rows.shape[1] * 2, real=True)
    power = np.mean(np.abs(scipy.fft.rfft(rows * fade, size, axis=1)) ** 2, axis=0)
    bins = scipy.fft.rfftfreq(size, 1 / rate)
    sums = np.concatenate([[0.0], np.cumsum(power)])
    width = 2 ** (1 / 12)
    low = np.searchsorted(bins, hz / width)
    high = np.maximum(np.searchsorted(bins, hz * width), low + 1)
    mean = (sums[np.minimum(high, len(power))] - sums[np.minimum(low, len(power) - 1)]) / (
        high - low
    )
    return 10 * np.log10(mean / (0.25 * rate * 0.1) + 1e-12)


def mean_envelope_db(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], after_s: float, points: int
) -> NDArray[np.float64]:
    """Level in dB over ``after_s`` seconds from the onset: the median over hits, ``(points,)``."""
    if len(onsets_s) == 0:
        return np.full(points, -120.0)
    rows = np.abs(hit_windows(audio, rate, list(onsets_s)[:80], 0.0, after_s))
    step = max(rows.shape[1] // points, 1)
    peaks = rows[:, : step * points].reshape(len(rows), points, step).max(axis=2)
    return amplitudes_to_db(np.median(peaks, axis=0))


def ring_time_s(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float], fall_db: float = 20.0
) -> float:
    """How long in s the drum in ``audio`` ``(frames,)`` takes to fall by ``fall_db`` from its peak: the median
    over hits that
    have 0.3 s or more to themselves, at most 2.5 s; 0.25 where no hit is usable."""
    times = np.sort(np.asarray(onsets_s, np.float64))
    if len(times) == 0:
        return 0.25
    gaps = np.diff(np.append(times, len(audio) / rate))
    falls = []
    for onset, gap in zip(times, gaps, strict=True):
        if gap < 0.3:
            continue
        start = round(onset * rate)
        sound = np.abs(audio[start : start + round(min(gap, 2.5) * rate)])
        # The largest of each half millisecond: what holds a peak for 20 ms needs no finer grid.
        step = max(rate // 2000, 1)
        moments = sound[: len(sound) // step * step].reshape(-1, step).max(axis=1)
        if len(moments) < 4:
            continue
        hold = scipy.ndimage.maximum_filter1d(moments, max(round(0.02 * rate / step), 1))
        peak = int(np.argmax(hold[: round(0.05 * rate / step)]))
        under = np.flatnonzero(hold[peak:] < hold[peak] * 10 ** (-fall_db / 20))
        falls.append((peak + under[0]) * step / rate if len(under) else len(sound) / rate)
    return float(np.median(falls)) if falls else 0.25


RING_BANDS_HZ = ((30.0, 250.0), (250.0, 2000.0), (2000.0, 12000.0))


def ring_by_band_s(
    audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float]
) -> NDArray[np.float64]:
    """How long a drum takes to fall by 20 dB, and by 60 as its fall goes on: ``(4, 2)``, of all of it
    and in each of `RING_BANDS_HZ`.

    The fall to 60 dB is drawn out from that between 5 and 20 dB, as ISO 3382 does (T15 there), since
    bleed and noise hide the rest.
    """
    bands = [audio]
    for low, high in RING_BANDS_HZ:
        sections = scipy.signal.butter(
            4, (low, min(high, 0.45 * rate)), "bandpass", fs=rate, output="sos"
        )
        bands.append(scipy.signal.sosfilt(sections, audio).astype(np.float32))
    out = []
    for band in bands:
        early, late = (ring_time_s(band, rate, onsets_s, fall) for fall in (5.0, 20.0))
        out.append([late, early + (late - early) * 55 / 15])
    return np.array(out)
