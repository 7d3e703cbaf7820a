"""Mains hum: narrow, steady lines at 50 or 60 Hz and their multiples."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.audio.samples import Samples, in_parts
from arkund.core.measure.decimate import decimated
from arkund.core.units import SILENCE_DB, power_to_db

LINES = 5
WINDOW_S = 24.0
CLEAR_DB = 2.5
"""The two clearest lines must stand over all that is near them by so much on average."""


@dataclass(frozen=True)
class Hum:
    """``hz`` of the first line (0: none found), the level of its two clearest lines together, and
    by how much these stand out on average, in dB."""

    hz: float
    level_dbfs: float
    contrast_db: float


NO_HUM = Hum(0.0, SILENCE_DB, 0.0)


def find_hum(audio: Samples, rate: int) -> Hum:
    """Hum of a mono signal ``(frames,)``; `NO_HUM` under 8 s or where nothing stands out.

    What tells hum from a drum is that it never loses step: over windows of up to 24 s its lines
    gather in one bin while hits spread over many. Each line within 0.15 Hz (times the root of
    its number, for mains wander) is held against the strongest bin 0.4 to 4.5 Hz off: hits in
    strict time make lines too, but a whole row of them, a beat's rate apart.
    """
    found = _spectra(audio, rate)
    contrasts = {mains: _contrasts(*found, mains) for mains in (50.0, 60.0)}
    best = NO_HUM
    for mains, (contrast, level) in contrasts.items():
        if len(contrast) == 0:
            continue
        two = np.argsort(contrast)[-2:]
        strength = float(contrast[two].mean())
        if strength >= CLEAR_DB and contrast[two].min() > 0.0 and strength > best.contrast_db:
            total = power_to_db(float(np.sum(10 ** (level[two] / 10))))
            best = Hum(mains, round(total, 1), round(strength, 1))
    return best


def hum_level_dbfs(audio: NDArray[np.float32], rate: int, hz: float) -> float:
    """Level in dBFS of the two clearest lines of a hum of ``hz`` in ``audio`` ``(frames,)``, whether it stands
    out or not."""
    contrast, level = _contrasts(*_spectra(audio, rate), hz)
    if len(contrast) == 0:
        return SILENCE_DB
    return power_to_db(float(np.sum(10 ** (level[np.argsort(contrast)[-2:]] / 10))))


def _spectra(audio: Samples, rate: int) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """``(windows, bins)`` power, full scale being 0.5, and the bins in Hz; empty under 8 s."""
    mean = np.full(8, 0.125, np.float32)
    eights = [part[: len(part) // 8 * 8].reshape(-1, 8) @ mean for part in in_parts(audio, 8)]
    factor = max(rate // 12000, 1)
    low = decimated(np.concatenate([mean[:0], *eights]), factor).astype(np.float64)
    own_rate = rate / 8 / factor
    size = min(round(WINDOW_S * own_rate), len(low))
    if size < 8 * own_rate:
        return np.zeros((0, 0)), np.zeros(0)
    starts = np.arange(0, len(low) - size + 1, max(size // 2, 1))
    window = scipy.signal.windows.hann(size, sym=False)
    rows = np.stack([low[s : s + size] for s in starts]) * window
    power = (np.abs(scipy.fft.rfft(rows, axis=1)) * 2 / window.sum()) ** 2
    return power, scipy.fft.rfftfreq(size, 1 / own_rate)


def _contrasts(
    power: NDArray[np.float64], hz: NDArray[np.float64], mains: float
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Contrast in dB and level in dBFS of each line."""
    if len(power) == 0:
        return np.zeros(0), np.zeros(0)
    contrast, level = [], []
    for number in range(1, LINES + 1):
        some = slice(*np.searchsorted(hz, (mains * number - 5, mains * number + 5)))
        off, part = np.abs(hz[some] - mains * number), power[:, some]
        near, beside = off <= 0.15 * np.sqrt(number), (off >= 0.4) & (off <= 4.5)
        line = part[:, near].max(axis=1)
        around = part[:, beside].max(axis=1)
        contrast.append(power_to_db(float(np.median(line / (around + 1e-20)))))
        level.append(power_to_db(float(np.median(line)) / 2))
    return np.array(contrast), np.array(level)
