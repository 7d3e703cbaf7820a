"""Delay and polarity between two mics that hear the same piece.

A drum's ring is predictable, its hit is not: what linear prediction (Makhoul, 1975) leaves of
a hit is a burst at its onset, and since the prediction is each mic's own, it also takes away
how the mic colours. The bursts of many hits are correlated; what the piece does not cause
averages out, and what comes first came the direct way. So the first strong peak is the delay.

Its sign says the polarity, and so does, better where a mic is thin, the correlation of the drum's
own low band at that delay; where the two disagree the pair is trusted less. The best lag of the
plain signals is biased by several samples where one mic is dull, and can flip its sign where one
is thin.
"""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kit.roles import AMBIENCE, parse_mic_name, piece_family

BEFORE_MS = 4.0
AFTER_MS = 24.0
ORDER_AT_48K = 40

LONGEST_WAY_MS = 14.0
"""No mic of a kit is farther from another than about 4.8 m."""


@dataclass(frozen=True)
class Pair:
    """How ``mic`` stands against ``reference`` on one piece.

    ``delay_samples`` is the difference of first arrivals, positive where ``mic`` hears later;
    ``polarity`` 1 or −1; ``best_shift_samples`` the shift of ``mic`` (positive is later) for the
    fullest sum at the polarity found, ``gain_low_db`` what that sum gains below 120 Hz over the
    sum as recorded; ``spread_samples`` half the middle two thirds of the single hits' delays;
    ``confidence`` 0 to 1.
    """

    piece: str
    mic: str
    reference: str
    delay_samples: float
    polarity: int
    best_shift_samples: float
    gain_low_db: float
    spread_samples: float
    confidence: float
    sure: bool
    hits: int


@dataclass(frozen=True)
class PairAlignment(Pair):
    """A pair with what it was read from: ``lags`` in samples and ``curve``, for drawing."""

    lags: NDArray[np.int64]
    curve: NDArray[np.float64]


def align_pair(
    piece: str,
    mic: str,
    reference: str,
    audio: dict[str, NDArray[np.float32]],
    times_s: NDArray[np.float64],
    others_s: NDArray[np.float64],
    rate: int,
    nearer: str,
) -> PairAlignment | None:
    """Alignment of ``mic`` against ``reference`` from the hits of one piece.

    ``audio`` maps both names to ``(frames,)``; ``times_s`` are the piece's hits at its nearest
    mic, ``others_s`` all other pieces' hits; ``nearer`` names the one of the two that the piece
    is closer to. None where there is no usable hit.
    """
    chosen = _isolated(times_s, others_s)
    farther = reference if nearer == mic else mic
    near = _windows(audio[nearer], chosen, rate)
    far = _windows(audio[farther], chosen, rate)
    loud = np.max(np.abs(near), axis=1) > 0
    near, far = near[loud], far[loud]
    if len(near) == 0:
        return None
    earliest = (
        0 if parse_mic_name(farther).role in AMBIENCE else -round(LONGEST_WAY_MS / 3000 * rate)
    )
    way, single, curve = _first_way(near, far, rate, earliest)
    body = _body_agreement(audio[nearer], audio[farther], chosen, way[0], _BODY_HZ, piece, rate)
    plain = way[2] >= PLAIN_WAY and abs(body) < LOUD_BODY
    agrees = plain or body * way[1] > 0
    flip = 1 if (body if abs(body) >= HEARD_BODY and not plain else way[1]) > 0 else -1
    delay = way[0] if farther == mic else -way[0]
    agree = np.abs(single - way[0]) < 0.0005 * rate
    spread = float(np.subtract(*np.percentile(single, [83, 17])) / 2) if len(single) > 1 else 0.0
    share = float(agree.mean())
    few = min(1.0, len(near) / 8)
    steady = float(np.clip(0.35 * share + 0.65 * min(way[2], 1.0), 0, 1))
    told = max(steady, 0.5 + 0.5 * abs(body)) if agrees else min(steady, 0.4 + 0.5 * abs(body))
    confidence = told * few
    clear = (way[2] > 0.78 or abs(body) >= 0.5) if agrees else abs(body) >= 0.8
    shift, gain = _fullest(near, far, flip, rate)
    reach = round(LONGEST_WAY_MS / 1000 * rate)
    return PairAlignment(
        piece=piece,
        mic=mic,
        reference=reference,
        delay_samples=round(float(delay), 2),
        polarity=flip,
        best_shift_samples=float(-shift if farther == mic else shift),
        gain_low_db=round(gain, 2),
        spread_samples=round(spread, 2),
        confidence=round(confidence, 3),
        sure=bool(min(confidence, steady) >= 0.6 and clear and len(near) >= 4),
        hits=len(near),
        lags=np.arange(-reach // 3, reach),
        curve=curve,
    )


_BODY_HZ = {"kick": (40.0, 160.0), "snare": (120.0, 500.0), "tom": (60.0, 300.0)}
"""Where a piece's body lies; cymbals are taken from 500 to 2000 Hz."""

HEARD_BODY = 0.25
"""From so much correlation on the body says how two mics stand to each other."""

PLAIN_WAY, LOUD_BODY = 1.5, 0.6
"""A first arrival so much above what is left over is believed, whatever a body under so much
correlation says: it may be another piece's, which falls with each hit."""


def _body_agreement(
    near: NDArray[np.float32],
    far: NDArray[np.float32],
    times: NDArray[np.float64],
    lag: float,
    bands: dict[str, tuple[float, float]],
    piece: str,
    rate: int,
) -> float:
    """Correlation, −1 to 1, of what two mics hear of the hits' first 40 ms in the piece's own
    band, the farther one taken ``lag`` samples later: long waves do not care about a few samples,
    so its sign stands where the hit's first edge is too thin to tell."""
    low, high = bands.get(piece_family(piece), (500.0, 2000.0))
    length, lead = round(0.04 * rate), round(0.002 * rate)
    window = np.hanning(length)
    spectra = []
    for sound, shift in ((near, 0), (far, round(lag))):
        rows = _cut(sound, np.rint(times * rate).astype(int) + shift - lead, length)
        spectra.append(scipy.fft.rfft(rows * window, axis=1))
    hz = scipy.fft.rfftfreq(length, 1 / rate)
    inside = (hz >= low) & (hz <= high)
    a, b = (s[:, inside] for s in spectra)
    power = np.sqrt(np.sum(np.abs(a) ** 2) * np.sum(np.abs(b) ** 2)) + 1e-20
    return float(np.real(np.sum(a * np.conj(b))) / power)


def _isolated(times: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """The hits with the most room around them: those alone if there are eight, at most 80."""
    if len(others) and len(times):
        room = np.min(np.abs(times[:, None] - others[None, :]), axis=1)
    else:
        room = np.full(len(times), np.inf)
    alone = times[room > 0.025]
    if len(alone) >= 8:
        return alone[:80]
    return times[np.argsort(-room, kind="stable")][: max(8, len(alone), len(times) // 2)][:80]


def _windows(
    audio: NDArray[np.float32], times: NDArray[np.float64], rate: int
) -> NDArray[np.float64]:
    """``(hits, length)``: the sound around each hit, eased in and out."""
    before, after = round(BEFORE_MS / 1000 * rate), round(AFTER_MS / 1000 * rate)
    starts = np.clip(np.rint(times * rate).astype(int), 0, len(audio) - 1) - before
    rows = _cut(audio, starts, before + after)
    ease = scipy.signal.windows.tukey(before + after, 0.25)
    ease[: before + after // 2] = np.maximum(
        ease[: before + after // 2], np.minimum(np.arange(before + after // 2) / (0.6 * before), 1)
    )
    return rows.astype(np.float64) * ease


def _cut(audio: NDArray[np.float32], starts: NDArray[np.int64], length: int) -> NDArray[np.float32]:
    """``(starts, length)``: the sound from each start on, silent where there is none."""
    rows = np.zeros((len(starts), length), np.float32)
    for row, start in zip(rows, starts, strict=True):
        first, last = max(start, 0), min(start + length, len(audio))
        if first < last:
            row[first - start : last - start] = audio[first:last]
    return rows


def _first_way(
    near: NDArray[np.float64], far: NDArray[np.float64], rate: int, earliest: int
) -> tuple[tuple[float, float, float], NDArray[np.float64], NDArray[np.float64]]:
    """``(lag, signed height, contrast)`` of the first arrival, the single hits' lags, and the
    mean correlation over lags −a third to the whole of `LONGEST_WAY_MS`.

    ``earliest`` is the least lag that can be: no overhead hears a drum before its close mic.
    """
    order = max(16, round(ORDER_AT_48K * rate / 48000))
    before = round(BEFORE_MS / 1000 * rate)
    burst = _unpredicted(near, order, before)
    # Of the nearer mic only the hit itself; of the other all that may be its arrival.
    hold = np.zeros(burst.shape[1])
    hold[before - round(0.0015 * rate) : before + round(0.003 * rate)] = 1.0
    burst = burst * scipy.signal.convolve(hold, np.hanning(25) / np.hanning(25).sum(), "same")
    echo = _unpredicted(far, order, before)
    burst /= np.linalg.norm(burst, axis=1, keepdims=True) + 1e-12
    echo /= np.linalg.norm(echo, axis=1, keepdims=True) + 1e-12
    size = scipy.fft.next_fast_len(2 * near.shape[1], real=True)
    reach = round(LONGEST_WAY_MS / 1000 * rate)
    products = scipy.fft.rfft(echo, size, axis=1) * np.conj(scipy.fft.rfft(burst, size, axis=1))
    responses = scipy.fft.irfft(products, size, axis=1)
    singles = np.concatenate([responses[:, -(reach // 3) :], responses[:, :reach]], axis=1)
    curve = np.mean(singles, axis=0)
    skipped = max(earliest + reach // 3, 0)
    at, height = _first_peak(curve[skipped:])
    at += skipped
    place = round(at)
    noise = np.sqrt(np.mean(curve**2)) + 1e-12
    near_by = curve[max(0, place - 6) : place + 7] * -np.sign(height)
    sign_lead = abs(height) / max(float(near_by.max()), 1e-12)
    contrast = min(abs(height) / noise / 6, sign_lead / 1.3)
    around = np.sign(height) * singles[:, max(0, place - 40) : place + 41]
    lags = max(0, place - 40) + np.argmax(around, axis=1) - reach // 3
    scale = np.abs(curve).max() + 1e-20
    return (at - reach // 3, height, contrast), lags.astype(float), curve / scale


def _unpredicted(rows: NDArray[np.float64], order: int, before: int) -> NDArray[np.float64]:
    """What a linear prediction of ``order``, fitted to all hits together, leaves of each."""
    ring = rows[:, before:]
    size = scipy.fft.next_fast_len(ring.shape[1] + order + 1, real=True)
    power = (
        np.abs(scipy.fft.rfft(ring / (np.linalg.norm(ring, axis=1, keepdims=True) + 1e-12), size))
        ** 2
    )
    correlation = scipy.fft.irfft(power.sum(axis=0), size)[: order + 1]
    correlation[0] = correlation[0] * 1.0005 + 1e-12
    taps = scipy.linalg.solve_toeplitz(correlation[:-1], correlation[1:])
    left: NDArray[np.float64] = scipy.signal.lfilter(
        np.concatenate([[1.0], -taps]), [1.0], rows, axis=1
    )
    return left


def _first_peak(curve: NDArray[np.float64]) -> tuple[float, float]:
    """Place (by a parabola through three points) and height of the first peak that reaches
    0.6 of the largest."""
    magnitude = np.abs(curve)
    peaks, _ = scipy.signal.find_peaks(magnitude, height=0.6 * magnitude.max())
    if len(peaks) == 0:
        return float(np.argmax(magnitude)), float(curve[np.argmax(magnitude)])
    p = int(peaks[0])
    left, mid, right = magnitude[p - 1], magnitude[p], magnitude[p + 1]
    bend = left - 2 * mid + right
    offset = 0.5 * (left - right) / bend if bend else 0.0
    return p + float(np.clip(offset, -0.5, 0.5)), float(curve[p])


def _fullest(
    near: NDArray[np.float64], far: NDArray[np.float64], flip: int, rate: int
) -> tuple[int, float]:
    """Shift of the nearer mic (positive is later) that makes the sum of both fullest below
    500 Hz, and what shift and polarity gain below 120 Hz, in dB."""
    size = scipy.fft.next_fast_len(2 * near.shape[1], real=True)
    hz = scipy.fft.rfftfreq(size, 1 / rate)
    a, b = scipy.fft.rfft(near, size, axis=1), scipy.fft.rfft(far, size, axis=1)
    low = (hz > 25) & (hz < 500)
    cross = np.where(low, np.sum(b * np.conj(a), axis=0), 0)
    reach = round(0.006 * rate)
    response = flip * scipy.fft.irfft(cross, size)
    curve = np.concatenate([response[-reach:], response[:reach]])
    shift = int(np.argmax(curve)) - reach
    bass = (hz > 25) & (hz < 120)
    moved = a[:, bass] * np.exp(-2j * np.pi * hz[bass] * shift / rate) * flip
    before = np.sum(np.abs(a[:, bass] + b[:, bass]) ** 2)
    after = np.sum(np.abs(moved + b[:, bass]) ** 2)
    return shift, float(10 * np.log10((after + 1e-20) / (before + 1e-20)))
