"""The drums in the song: how loud they are over the bed, what of kick and snare it covers, and how the whole differs
from a reference in its balance."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.hits import hit_windows
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.units import power_to_db

KICK_HZ, KICK_S = (35.0, 120.0), 0.05
SNARE_HZ, SNARE_S = (150.0, 5000.0), 0.08
"""Where a kick and a snare are told from the rest, and for how long after a hit."""

OCTAVES_HZ = (63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
FEWEST = 4


@dataclass(frozen=True)
class Covered:
    """Of a drum at its hits, in its band: how many dB the drums are over the bed at the middle hit, at how many of
    the hits (0 to 1) the bed is louder, and by how much it is there."""

    hits: int
    over_bed_db: float
    share: float
    covered_by_db: float


def over_bed_lu(drums: NDArray[np.float32], bed: NDArray[np.float32], rate: int) -> float:
    """Loudness of the drums over the bed's, both ``(frames, 2)``, in LU."""
    return loudness_lufs(drums, rate) - loudness_lufs(bed, rate)


def covered(
    drums: NDArray[np.float32],
    bed: NDArray[np.float32],
    rate: int,
    times_s: Sequence[float],
    band_hz: tuple[float, float],
    length_s: float,
) -> Covered | None:
    """What the bed covers of a drum with hits at ``times_s``; None of one that is hit less than `FEWEST` times.
    ``drums`` and ``bed`` are ``(frames, 2)``; power of both sides in a band, over ``length_s`` from each hit on."""
    if len(times_s) < FEWEST:
        return None
    ours, theirs = (_powers(sound, rate, times_s, band_hz, length_s) for sound in (drums, bed))
    over = 10 * np.log10((ours + 1e-14) / (theirs + 1e-14))
    under = over[over < 0]
    return Covered(
        len(times_s),
        float(np.median(over)),
        len(under) / len(over),
        float(-np.median(under)) if len(under) else 0.0,
    )


def _powers(
    sound: NDArray[np.float32],
    rate: int,
    times_s: Sequence[float],
    band_hz: tuple[float, float],
    length_s: float,
) -> NDArray[np.float64]:
    """Mean power of both sides at each hit."""
    band = scipy.signal.butter(2, band_hz, "bandpass", fs=rate, output="sos")
    power = np.zeros(len(times_s))
    for side in (0, 1):
        # There and back, so that a low band is not late against the hits.
        filtered = scipy.signal.sosfiltfilt(band, sound[:, side]).astype(np.float32)
        rows = hit_windows(filtered, rate, list(times_s), 0.0, length_s)
        power += np.mean(np.square(rows, dtype=np.float64), axis=1)
    return power


def apart_from_db(
    sound: NDArray[np.float32], reference: NDArray[np.float32], rate: int
) -> NDArray[np.float64]:
    """How far the octaves around `OCTAVES_HZ` of a sound ``(frames, 2)`` stand over those of a reference, ``(8,)`` in
    dB, at equal loudness."""
    gain = loudness_lufs(reference, rate) - loudness_lufs(sound, rate)
    ours, theirs = (_octaves_db(one, rate) for one in (sound, reference))
    return ours + gain - theirs


def _octaves_db(sound: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    hz, power = scipy.signal.welch(sound, rate, nperseg=8192, axis=0)
    whole = power.sum(axis=1)
    return np.array(
        [
            power_to_db(float(whole[(hz >= at / 2**0.5) & (hz < at * 2**0.5)].sum()) + 1e-20)
            for at in OCTAVES_HZ
        ]
    )
