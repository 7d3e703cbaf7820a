"""Where a gate's key listens best: the band in which own hits stand out most from what leaks in,
which is rarely where either drum rings."""

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.measure.hits import hit_windows

EDGES_HZ = (20.0, 60.0, 120.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0, 20000.0)
HIGHEST_LOW_HZ, LOWEST_HIGH_HZ = 2000.0, 250.0
"""As far as a key's filters reach."""

BEFORE_S, AFTER_S = 0.001, 0.02
LEAST_GAIN_DB = 2.0
"""A filter is proposed where it parts hits from bleed by so much more than none does."""

WIDER_DB = 0.5
"""So much of the best margin is given up for a wider band, which hears hits of all kinds."""

FEWEST = 4


@dataclass(frozen=True)
class KeyFilter:
    """A band in Hz, and how far hits stand above bleed in it and without a filter, in dB."""

    low_hz: float
    high_hz: float
    margin_db: float
    plain_db: float


def propose_key(
    audio: NDArray[np.float32], rate: int, piece: str, hits: Sequence[Hit], delay: float = 0.0
) -> KeyFilter | None:
    """The band for a key ``(frames,)`` that hears ``piece``, its hits ``delay`` samples late in it.
    None where there are few hits or little bleed, or where no band does much better than all."""
    own = [h.time_s for h in hits if h.piece == piece and h.kind != "ghost"]
    others = np.array([h.time_s for h in hits if h.piece != piece])
    every = np.array([h.time_s for h in hits if h.piece == piece])
    if len(own) < FEWEST or len(others) < FEWEST:
        return None
    since = others[:, None] - every[None, :]
    bleed = others[~np.any((since > -0.045) & (since < 0.15), axis=1)]
    if len(bleed) < FEWEST:
        return None
    late = delay / rate
    own_powers, leaks = (
        _band_powers(audio, rate, [t + late for t in times]) for times in (own, bleed.tolist())
    )
    count = len(EDGES_HZ) - 1
    margins = {
        (low, high): _margin_db(own_powers[:, low:high].sum(axis=1), leaks[:, low:high].sum(axis=1))
        for low in range(count)
        for high in range(low + 1, count + 1)
        if EDGES_HZ[low] <= HIGHEST_LOW_HZ and EDGES_HZ[high] >= LOWEST_HIGH_HZ
    }
    plain, best = margins[0, count], max(margins.values())
    wide = max(
        (span for span, db in margins.items() if db >= best - WIDER_DB),
        key=lambda span: span[1] - span[0],
    )
    if margins[wide] < plain + LEAST_GAIN_DB:
        return None
    return KeyFilter(EDGES_HZ[wide[0]], EDGES_HZ[wide[1]], round(margins[wide], 1), round(plain, 1))


def _band_powers(audio: NDArray[np.float32], rate: int, times: list[float]) -> NDArray[np.float64]:
    """Power of each hit's beginning between neighbouring `EDGES_HZ`: ``(hits, bands)``."""
    rows = hit_windows(audio, rate, times, BEFORE_S, AFTER_S).astype(np.float64)
    rows = rows * scipy.signal.windows.tukey(rows.shape[1], 0.2)
    power = np.abs(scipy.fft.rfft(rows, 8192, axis=1)) ** 2
    hz = scipy.fft.rfftfreq(8192, 1 / rate)
    out: NDArray[np.float64] = np.stack(
        [power[:, (hz >= a) & (hz < b)].sum(axis=1) for a, b in pairwise(EDGES_HZ)], axis=1
    )
    return out


def _margin_db(hits: NDArray[np.float64], leaks: NDArray[np.float64]) -> float:
    """From the loudest bleed that counts to the softest hit that counts."""
    soft, loud = np.percentile(hits, 5), np.percentile(leaks, 98)
    return float(10 * np.log10((soft + 1e-20) / (loud + 1e-20)))
