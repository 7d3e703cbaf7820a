"""Energy of a mic in a few bands, a millisecond at a time, and where it rises.

This is the cheap first look: it offers more candidates than there are hits; `ownership`
decides which of them are.
"""

import bisect
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.measure.lanes import powers
from arkund.core.once import once

BAND_EDGES_HZ = (40.0, 120.0, 350.0, 1200.0, 4500.0, 9000.0, 18000.0)
BANDS = len(BAND_EDGES_HZ) - 1
BRIGHT = 3
"""The first band in which sticks and cymbals are heard, and first arrivals seen: from 1.2 kHz."""


@dataclass(frozen=True)
class BandEnergy:
    """``energy`` is float32 ``(frames, BANDS)``: mean square per band and millisecond;
    ``hop`` is the number of samples in one frame."""

    energy: NDArray[np.float32]
    hop: int
    rate: int

    @once
    def floor(self) -> NDArray[np.float64]:
        """`noise_floor`, computed once."""
        return noise_floor(self)

    @once
    def smooth(self) -> NDArray[np.float32]:
        """`smoothed`, computed once."""
        return smoothed(self)

    @once
    def before_and_after(self) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """`before_and_after` of the smoothed energy, computed once."""
        return before_and_after(self.smooth)

    @once
    def still_sounding(self) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """`still_sounding`, computed once."""
        return still_sounding(self)

    @once
    def rise(self) -> NDArray[np.float32]:
        """`rise_db`, computed once."""
        return rise_db(self)


def band_filter(band: int, rate: int) -> NDArray[np.float64]:
    """Second-order sections ``(2, 6)`` that pass one band: a high-pass, then a low-pass. A band
    that lies above what ``rate`` can hold becomes the highest that it can."""
    low, high = BAND_EDGES_HZ[band : band + 2]
    return np.concatenate(
        [
            scipy.signal.butter(2, min(low, 0.36 * rate), "highpass", fs=rate, output="sos"),
            scipy.signal.butter(2, min(high, 0.46 * rate), "lowpass", fs=rate, output="sos"),
        ]
    )


@lru_cache(8)
def _band_filters(rate: int) -> NDArray[np.float64]:
    """Every `band_filter` as `powers` takes them, ``(BANDS, 2, 5)``. Not to be written to."""
    return np.delete([band_filter(band, rate) for band in range(BANDS)], 3, axis=2)


def band_energy(audio: NDArray[np.float32], rate: int) -> BandEnergy:
    """Mean square of ``audio`` ``(frames,)`` per band and millisecond.

    Bands are second-order Butterworth high- and low-passes in cascade: their low ones smear time
    by a few ms, so times are refined on the sound itself (`arrival`).
    """
    hop = round(rate / 1000)
    energy = powers(audio, rate, _band_filters(rate), hop)
    return BandEnergy(energy.astype(np.float32), hop, rate)


def noise_floor(bands: BandEnergy) -> NDArray[np.float64]:
    """Energy per band, ``(BANDS,)``, of the quiet moments: the 10th percentile over time."""
    if len(bands.energy) == 0:
        return np.full(BANDS, 1e-12)
    floor: NDArray[np.float64] = np.percentile(bands.energy[::5], 10, axis=0).astype(np.float64)
    return np.maximum(floor, 1e-12)


SMOOTH_MS = (14, 8, 4, 3, 3, 3)
"""Length of the running mean per band: about one period of its lowest frequency, since the energy
of a steady tone over less than a period is no steady figure."""

BEFORE_MS = 22
AFTER_MS = 16


def smoothed(bands: BandEnergy) -> NDArray[np.float32]:
    """Running mean of each band's energy, ``(frames, BANDS)``; frame n holds n and those after."""
    out = np.empty_like(bands.energy)
    _smooth(np.ascontiguousarray(bands.energy), np.array(SMOOTH_MS), out)
    return out


def still_sounding(bands: BandEnergy) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Least energy of the two top bands 45 to 130 ms after each frame, and the least of the
    30 ms before it, both ``(frames, 2)``: later hits add to the energy, never to its least."""
    energy = bands.energy[:, -2:]
    smooth = scipy.ndimage.uniform_filter1d(energy, 8, axis=0, mode="nearest")
    least = scipy.ndimage.minimum_filter1d(smooth, 85, axis=0, mode="nearest")
    last = len(least) - 1
    after = least[np.minimum(np.arange(len(least)) + 88, last)]
    before = scipy.ndimage.minimum_filter1d(smooth, 30, axis=0, origin=14, mode="nearest")
    return after, before


@kernel()
def _smooth(energy, lengths, out):  # type: ignore[no-untyped-def]
    frames = len(energy)
    sums = np.zeros(frames + 1)
    for band in range(energy.shape[1]):
        for n in range(frames):
            sums[n + 1] = sums[n] + energy[n, band]
        for n in range(frames):
            stop = min(n + lengths[band], frames)
            out[n, band] = (sums[stop] - sums[n]) / lengths[band]


def before_and_after(
    smooth: NDArray[np.float32],
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Largest smoothed energy shortly before and shortly after each frame, ``(frames, BANDS)``.

    The largest, not the mean: a new hit is what exceeds all that has just been sounding, so
    the beating of a ring is none.
    """
    before, after = np.empty_like(smooth), np.empty_like(smooth)
    for band, length in enumerate(SMOOTH_MS):
        # Frame n of the running mean looks ahead; what lies wholly before n ends at n - length.
        back = BEFORE_MS - length // 2
        column = np.ascontiguousarray(smooth[:, band])
        before[:, band] = _highest(column, 1 - back - length, back)
        after[:, band] = _highest(column, 0, AFTER_MS)
    return before, after


def _highest(column: NDArray[np.float32], first: int, count: int) -> NDArray[np.float32]:
    """Of each frame the highest of ``count`` from the one ``first`` frames away on; beyond the ends
    stands what stands there."""
    padded = np.pad(column, (max(-first, 0), max(first + count, 0)), mode="edge")
    out = np.empty_like(column)
    _slide(padded[max(first, 0) :], count, out)
    return out


@kernel()
def _slide(x, count, out):  # type: ignore[no-untyped-def]
    out[:] = x[: len(out)]
    for t in range(1, count):
        for n in range(len(out)):
            out[n] = max(out[n], x[n + t])


def rise_db(bands: BandEnergy, lowest: int = 2) -> NDArray[np.float32]:
    """By how many dB something new exceeds all of the 20 ms before: ``(frames,)``, at least 0.

    Of the bands from ``lowest`` on (350 Hz) the two that rise most count: bleed and ring hide some and not
    others, and the lowest swell too slowly to say when.
    """
    if len(bands.energy) < 64:
        return np.zeros(len(bands.energy), np.float32)
    floor = (4 * bands.floor).astype(np.float32)
    smooth = bands.smooth
    before, _ = bands.before_and_after
    rise = 10 * np.log10((smooth + floor) / (before + floor))
    out = np.empty(len(rise), np.float32)
    _two_best(rise, lowest, out)
    return out


@kernel()
def _two_best(rise, lowest, out):  # type: ignore[no-untyped-def]
    """The mean of the two highest of each row from the column ``lowest`` on, or 0."""
    for n in range(len(rise)):
        best = second = np.float32(-np.inf)
        for band in range(lowest, rise.shape[1]):
            one = rise[n, band]
            second = max(second, min(best, one))
            best = max(best, one)
        out[n] = max((best + second) / np.float32(2.0), np.float32(0.0))


APART_IF_LOUDER_MS = 12


def candidates(
    bands: BandEnergy, least_db: float = 3.5, apart_ms: int = 24, lowest: int = 2
) -> NDArray[np.int64]:
    """Frames at which something may start, ascending, ``apart_ms`` frames or more apart.

    It starts in the bands from ``lowest`` on. Of several close together the one that stands out
    most stays: by its rise, of which 20 dB is as much as counts, less what it is more than 10 dB
    quieter than the loudest near it.
    """
    rise = bands.rise if lowest == 2 else rise_db(bands, lowest)
    peaks, _ = scipy.signal.find_peaks(rise, height=least_db, distance=5)
    if len(peaks) == 0:
        return peaks.astype(np.int64)
    loudness = 10 * np.log10(bands.smooth[:, lowest:].sum(axis=1) + 1e-12)
    loudest = scipy.ndimage.maximum_filter1d(loudness, 2 * apart_ms)
    score = np.minimum(rise, 20) + np.minimum(loudness - loudest + 10, 0)
    kept: list[int] = []
    for peak in peaks[np.argsort(-score[peaks], kind="stable")]:
        at = bisect.bisect(kept, peak)
        left_free = at == 0 or peak - kept[at - 1] >= apart_ms
        if not left_free and peak - kept[at - 1] >= APART_IF_LOUDER_MS:
            # A drum struck soon after another whose bleed rose first.
            left_free = loudness[peak] > loudness[kept[at - 1]] + 6 and rise[peak] > 7
        if left_free and (at == len(kept) or kept[at] - peak >= apart_ms):
            kept.insert(at, int(peak))
    return np.array(kept, np.int64)
