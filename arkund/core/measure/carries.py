"""Who carries each piece: what every mic adds to a piece's hits in the mix, by band."""

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.decimate import decimated
from arkund.core.measure.hits import hit_windows
from arkund.core.units import power_to_db

BANDS_HZ = ((25.0, 120.0), (120.0, 500.0), (500.0, 2000.0), (2000.0, 16000.0))
HEARD_S = 0.15
"""So much of a hit is listened to."""

MOST_HITS = 32
LOW_HZ = 120.0


@dataclass(frozen=True)
class Carried:
    """What mics add to one piece: by mic and band of `BANDS_HZ` the ``share`` of all mics' power
    (0 to 1), and by how many dB the piece would change ``without`` the mic, whose sound may add to
    the others' or cancel it; how many hits were listened to; where the piece stands between left
    (−1) and right (1) by constant power; and what it loses in mono, in dB."""

    hits: int
    share: Mapping[str, tuple[float, ...]]
    without_db: Mapping[str, tuple[float, ...]]
    side: float
    mono_db: float


def carried(
    mics: Mapping[str, NDArray[np.float32]], rate: int, times_s: Sequence[float]
) -> Carried | None:
    """Of mics as they go into the mix, each ``(frames, 2)``, at the hits of a piece. None without
    hits."""
    times = list(times_s)[:: -(-len(times_s) // MOST_HITS)] if len(times_s) else []
    if not times or not mics:
        return None
    spectra, hz = {}, np.zeros(0)
    for name, sound in mics.items():
        sides = [
            hit_windows(np.ascontiguousarray(sound[:, c]), rate, times, 0.002, HEARD_S)
            for c in (0, 1)
        ]
        rows = np.stack(sides) * scipy.signal.windows.tukey(sides[0].shape[1], 0.1)
        spectra[name] = scipy.fft.rfft(rows, axis=2)
        hz = scipy.fft.rfftfreq(rows.shape[2], 1 / rate)
    whole = np.sum(list(spectra.values()), axis=0)
    inside = [(hz >= low) & (hz < high) for low, high in BANDS_HZ]

    def power(spectrum: NDArray[np.complex128]) -> list[float]:
        return [float(np.sum(np.abs(spectrum[..., band]) ** 2)) + 1e-20 for band in inside]

    own = {name: power(s) for name, s in spectra.items()}
    every = np.sum(list(own.values()), axis=0)
    together = power(whole)
    share = {
        name: tuple(round(p / t, 4) for p, t in zip(o, every, strict=True))
        for name, o in own.items()
    }
    without = {
        name: tuple(
            round(power_to_db(left) - power_to_db(now), 2)
            for left, now in zip(power(whole - s), together, strict=True)
        )
        for name, s in spectra.items()
    }
    left, right = (float(np.sqrt(np.sum(np.abs(whole[c]) ** 2))) for c in (0, 1))
    both, folded = left**2 + right**2, float(np.sum(np.abs(whole[0] + whole[1]) ** 2)) / 2
    return Carried(
        len(times),
        share,
        without,
        round(math.atan2(right, left) * 4 / math.pi - 1, 3),
        round(power_to_db(folded + 1e-20) - power_to_db(both + 1e-20), 2) + 0.0,
    )


def low_power(sound: NDArray[np.float32], rate: int) -> float:
    """Mean power of ``(frames, 2)`` below `LOW_HZ`, of both sides together."""
    factor = max(int(rate // (8 * LOW_HZ)), 1)
    low = np.stack([decimated(sound[:, side], factor) for side in (0, 1)], axis=1)
    sections = scipy.signal.butter(4, LOW_HZ, fs=rate / factor, output="sos")
    return float(np.mean(np.square(scipy.signal.sosfilt(sections, low, axis=0))) * 2)


def low_spectrum(
    sound: NDArray[np.float32], rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Power of ``(frames, 2)`` by frequency below `LOW_HZ`, both sides together, and the frequencies in
    Hz, ``(bins,)`` each (Welch's method, quarter seconds)."""
    factor = max(int(rate // (8 * LOW_HZ)), 1)
    low = np.stack([decimated(sound[:, side], factor) for side in (0, 1)])
    length = min(round(rate / factor / 4), low.shape[1])
    hz, power = scipy.signal.welch(low, rate / factor, nperseg=max(length, 1), axis=1)
    below = (hz > 0) & (hz < LOW_HZ)
    return power[:, below].sum(axis=0), hz[below]
