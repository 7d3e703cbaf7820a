"""What overheads, or one mic of the whole kit, hear of each onset: its spectrum as it begins and dies away."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.novelty import BandEnergy, candidates
from arkund.core.kernel import kernel
from arkund.core.once import once

WINDOWS_MS = {
    "before": (-26.0, 44.0),
    "attack": (5.0, 24.0),
    "early": (20.0, 56.0),
    "body": (70.0, 96.0),
    "late": (150.0, 128.0),
}
"""Middle and length of each window, in ms after the onset."""

EDGES_HZ = np.geomspace(40.0, 16000.0, 15)
BANDS = len(EDGES_HZ) - 1
COARSE = (slice(0, 3), slice(3, 6), slice(6, 9), slice(9, 12), slice(12, 14))
SPECTRUM_HZ = 12.0
"""Step of the spectra that bands are summed from."""

SHORTEST_MS = 64
"""A shorter recording is not searched."""


LEAST_DB, APART_MS, MERGED_MS = 1.5, 18, 8
"""An onset rises by at least so much, and lies at least so far from the next, in one mic and in two."""

LOUD = 95
"""Percentile of a band's levels over all onsets that counts as loud."""

LOWEST_DB = -60.0


@dataclass(frozen=True)
class Spectra:
    """Mean square ``(onsets, BANDS)`` in each window, of all ears together, and how much louder the
    first ear is than the last, in dB ``(onsets, len(COARSE))``, as a hit begins (``place_db``) and
    as it rings (``ringing_db``); NaN where there is one."""

    energy: Mapping[str, NDArray[np.float64]]
    place_db: NDArray[np.float64]
    ringing_db: NDArray[np.float64]

    @once
    def level_db(self) -> dict[str, NDArray[np.float64]]:
        """Each window's energy in dB against that band's loud onsets there."""
        return {name: _against_loud(e) for name, e in self.energy.items()}


def onsets(
    bands: Sequence[BandEnergy],
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Frames at which anything may begin, ascending, and by how many dB each band of `novelty` rises
    there, ``(onsets, bands)``, in the ear where it rises most."""
    found = [candidates(b, LEAST_DB, APART_MS, lowest=1) for b in bands]
    frames = np.unique(np.concatenate(found))
    frames = frames[np.diff(frames, prepend=-APART_MS) >= MERGED_MS]
    rises = []
    for b in bands:
        floor = 4 * b.floor
        ratio = 10 * np.log10((b.smooth + floor) / (b.before_and_after[0] + floor))
        near = np.clip(frames[:, None] + np.arange(-4, 5), 0, len(ratio) - 1)
        rises.append(ratio[near].max(axis=1))
    return frames, np.max(rises, axis=0)


def spectra(
    ears: Sequence[NDArray[np.float32]], times_s: NDArray[np.float64], rate: int
) -> Spectra:
    """Of onsets at ``times_s`` in one or two ``ears`` ``(frames,)``."""
    longest = max(length for _, length in WINDOWS_MS.values())
    around = rate + round(longest * rate / 1000)
    padded = [np.pad(ear, around) for ear in ears]
    asked = [(n, name) for n in range(len(ears)) for name in WINDOWS_MS]
    with ThreadPoolExecutor(2) as pool:
        found = list(
            pool.map(
                lambda one: _window(padded[one[0]], around, times_s, rate, *WINDOWS_MS[one[1]]),
                asked,
            )
        )
    by_ear = [
        {name: e for (m, name), e in zip(asked, found, strict=True) if m == n}
        for n in range(len(ears))
    ]
    energy = {name: np.mean([e[name] for e in by_ear], axis=0) + 1e-14 for name in WINDOWS_MS}
    if len(ears) == 1:
        nowhere = np.full((len(times_s), len(COARSE)), np.nan)
        return Spectra(energy, nowhere, nowhere)
    return Spectra(energy, _place(by_ear, "early"), _place(by_ear, "body"))


def _place(by_ear: Sequence[Mapping[str, NDArray[np.float64]]], window: str) -> NDArray[np.float64]:
    """How much more is new in a window of the first ear than of the last, in dB ``(onsets, COARSE)``."""
    new = [np.maximum(e[window] - e["before"], 0.05 * e[window]) + 1e-14 for e in by_ear]
    place = np.stack(
        [10 * np.log10(new[0][:, c].sum(axis=1) / new[-1][:, c].sum(axis=1)) for c in COARSE],
        axis=1,
    )
    # Where the loud ones stand is the overheads' own balance, not a place.
    return place - np.median(place, axis=0) if len(place) else place


def _window(
    padded: NDArray[np.float32],
    around: int,
    times_s: NDArray[np.float64],
    rate: int,
    middle_ms: float,
    length_ms: float,
) -> NDArray[np.float64]:
    """Mean square ``(onsets, BANDS)`` of a Hann window about each onset in a sound that is ``padded``
    by so many samples ``around`` it."""
    length = round(length_ms * rate / 1000)
    shape = scipy.signal.get_window("hann", length).astype(np.float32)
    points = scipy.fft.next_fast_len(max(round(rate / SPECTRUM_HZ), length), real=True)
    first = np.round(times_s * rate + (middle_ms - length_ms / 2) * rate / 1000).astype(np.int64)
    edges = np.searchsorted(np.fft.rfftfreq(points, 1 / rate), EDGES_HZ)
    scale = 2.0 / (points * float(np.sum(shape**2)))
    out = np.empty((len(times_s), BANDS))
    step = 512
    every = np.lib.stride_tricks.sliding_window_view(padded, length)
    for at in range(0, len(first), step):
        begin = np.clip(first[at : at + step] + around, 0, len(padded) - length)
        sound = every[begin] * shape
        _add_bins(scipy.fft.rfft(sound, points, axis=1), edges, scale, out[at : at + step])
    return out


@kernel(fastmath=True)
def _add_bins(bins, edges, scale, out):  # type: ignore[no-untyped-def]
    """The power ``(rows, bands)`` of the bins from each edge to the next."""
    for row in range(len(bins)):
        for band in range(len(edges) - 1):
            some, total = bins[row, edges[band] : edges[band + 1]], 0.0
            for k in range(len(some)):
                total += some[k].real ** 2 + some[k].imag ** 2
            out[row, band] = total * scale


def _against_loud(energy: NDArray[np.float64]) -> NDArray[np.float64]:
    if len(energy) == 0:
        return energy
    loud = np.percentile(energy, LOUD, axis=0) + 1e-14
    return np.maximum(10 * np.log10(energy / loud), LOWEST_DB)
