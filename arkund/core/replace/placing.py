"""Placing: to a fraction of a sample where a sample's first half-cycles lie under a hit's, in the
polarity that makes the sum fuller.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import scipy
from numpy.typing import NDArray

SEARCH_S = 0.0045
WINDOW_S = (-0.001, 0.004)
SUM_S = 0.05
BELOW_HZ = 4000.0
PRICE_PER_MS = 0.2
LOW_HZ = 150.0


@dataclass(frozen=True)
class Place:
    """``shift`` in samples by which a sample is moved later, its polarity, how alike both are
    (0 to 1), and what the sum has over the hit alone below 150 Hz, in dB at equal level."""

    shift: float
    polarity: int
    alike: float
    gain_low_db: float


class Heard(NamedTuple):
    """A sound ``(frames,)`` as it is placed by: its ``slopes`` below 4 kHz and its ``bottom``."""

    slopes: NDArray[np.float64]
    bottom: NDArray[np.float64]


def heard(sounds: Sequence[NDArray[np.float32]], rate: int) -> list[Heard]:
    """Mono sounds ``(frames,)`` of one length as they are placed by, filtered together: a call for each would
    take longer than the filters do."""
    rows = np.stack(sounds).astype(np.float64)
    slopes = np.diff(_below(rows, rate, BELOW_HZ), prepend=0.0, axis=1)
    return [Heard(*pair) for pair in zip(slopes, _below(rows, rate, LOW_HZ), strict=True)]


def place(hit: Heard, sample: Heard, onset: int, rate: int, *, same_mic: bool = False) -> Place:
    """Where ``sample`` belongs under ``hit``; both have their onsets at index ``onset``, give or
    take 4.5 ms. The hit reaches 50 ms beyond, or is taken to end.

    The lag of the largest correlation, either sign, of the slopes of the first 4 ms below 4 kHz, refined by a
    parabola; of the lags that come near to it the one whose sum is fullest at the bottom. Of two
    hits in the ``same_mic`` the polarity is known: the other one would be half a cycle off.
    """
    reach = round(SEARCH_S * rate)
    first, last = onset + round(WINDOW_S[0] * rate), onset + round(WINDOW_S[1] * rate)
    drum, low_drum, low_own = hit.slopes, hit.bottom, sample.bottom
    piece = _cut(sample.slopes, first, last)
    lags = np.arange(-reach, reach + 1)
    around = _cut(drum, first - reach, last + reach)
    power = np.convolve(around**2, np.ones(len(piece)), "valid")
    size = np.sqrt(power * np.sum(piece**2)) + 1e-20
    alike = np.correlate(around, piece, "valid") / size
    # The list of hits is seldom far off: of two places as good the nearer one.
    priced = (alike if same_mic else np.abs(alike)) - PRICE_PER_MS * np.abs(lags) * 1000 / rate
    best: tuple[float, float, int, float, float] | None = None
    top = float(priced.max())
    for n in _peaks(priced):
        if priced[n] < 0.8 * top:
            continue
        polarity = 1 if same_mic or alike[n] >= 0 else -1
        low = _sum_gain_db(low_drum, low_own, onset, int(lags[n]), polarity, rate)
        # A sum that is thinner at the bottom than the drum alone is no place.
        worth = float(priced[n]) - (1.0 if low < 0 else 0.0)
        if best is None or worth > best[0]:
            best = (
                worth,
                float(lags[n]) + _vertex(np.abs(alike), n),
                polarity,
                abs(float(alike[n])),
                low,
            )
    if best is None:
        return Place(0.0, 1, 0.0, 0.0)
    _, shift, polarity, value, low = best
    if low < 0 and not same_mic:
        flipped = _sum_gain_db(low_drum, low_own, onset, round(shift), -polarity, rate)
        if flipped > low:
            polarity, low = -polarity, flipped
    if low < 0:
        # Where nothing fits, where the list has it.
        as_listed = _sum_gain_db(low_drum, low_own, onset, 0, polarity, rate)
        if as_listed > low:
            shift, value, low = 0.0, abs(float(alike[reach])), as_listed
    return Place(shift, polarity, value, low)


def _peaks(values: NDArray[np.float64]) -> list[int]:
    inner = np.flatnonzero((values[1:-1] >= values[:-2]) & (values[1:-1] >= values[2:])) + 1
    return [int(n) for n in inner] or [int(np.argmax(values))]


def _vertex(values: NDArray[np.float64], n: int) -> float:
    """How far the top of the parabola through three points lies from the middle one."""
    if not 0 < n < len(values) - 1:
        return 0.0
    a, b, c = values[n - 1], values[n], values[n + 1]
    bend = a - 2 * b + c
    return float(np.clip(0.5 * (a - c) / bend, -0.5, 0.5)) if bend < 0 else 0.0


def _sum_gain_db(
    drum: NDArray[np.float64],
    own: NDArray[np.float64],
    onset: int,
    lag: int,
    polarity: int,
    rate: int,
) -> float:
    """What the sum of both at equal level has over the drum alone, in dB."""
    stop = onset + round(SUM_S * rate)
    a, b = _cut(drum, onset, stop), polarity * _cut(own, onset - lag, stop - lag)
    power, other = float(np.sum(a**2)), float(np.sum(b**2))
    if power <= 0 or other <= 0:
        return 0.0
    both = float(np.sum((a + b * np.sqrt(power / other)) ** 2))
    return float(10 * np.log10(max(both, 1e-20) / power))


def _cut(x: NDArray[np.float64], first: int, last: int) -> NDArray[np.float64]:
    """A span of a signal, silence beyond its ends."""
    out = np.zeros(last - first)
    a, b = max(first, 0), min(last, len(x))
    if a < b:
        out[a - first : b - first] = x[a:b]
    return out


@lru_cache(maxsize=8)
def _filter(rate: int, hz: float) -> NDArray[np.float64]:
    sections: NDArray[np.float64] = scipy.signal.butter(2, hz, fs=rate, output="sos")
    return sections


def _below(rows: NDArray[np.float64], rate: int, hz: float) -> NDArray[np.float64]:
    """What lies below ``hz`` in each row: Butterworth of the second order; all are as late by it."""
    return np.asarray(scipy.signal.sosfilt(_filter(rate, hz), rows, axis=1))
