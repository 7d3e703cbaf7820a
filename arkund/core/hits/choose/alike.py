"""Hits of a tom that sound as those already known do.

In a fill a tom is struck again while it rings, or with a kick or a snare that covers it in every other mic: what
tells it by its beginning alone fails there. A tom's first 30 ms in its own mic are as a fingerprint, for no bleed
has its pitch and its phase at once.
"""

from collections.abc import Mapping, Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.choose.floor import as_hit_at
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family

BEFORE_S, AFTER_S = 0.012, 0.030
"""What is compared: with what lies before the hit, which a drum that only rings on has, too."""

BAND_HZ, RATE_HZ = (60.0, 1500.0), 6000
"""Where a tom's pitch and its beginning are, and at which rate that is compared, about."""

KNOWN, FEWEST = 0.8, 2
"""How sure a hit is that others are compared with, and how many of these there are at least."""

ALIKE_OWN, ALIKE_ALL = 0.87, 0.4
"""How alike (correlation) a hit is in the tom's own mic, and in all mics together at least. (On 78 worlds of five
sources 22 hits were found so that nothing else told, and none that was none.)"""

WITHIN_DB = 6.0
"""It is softer than the known ones by no more."""

BLEED_ALIKE, BLEED_WITHIN_DB, BLEED_SHARE = 0.7, 12.0, 0.25
"""If so many of another piece's hits are so like the known ones in all mics together, and so loud, these are its
bleed."""

TOGETHER_S, MOST = 0.012, 0.8
APART_S = 0.05
REACH_S = 0.002
SURE = 0.85
"""How sure such a hit is."""

Array = NDArray[np.float64]


def with_alike(
    hits: Sequence[Hit],
    own: Mapping[str, Sequence[int]],
    mics: Sequence[NDArray[np.float32]],
    rate: int,
) -> list[Hit]:
    """The list with the tom hits that it lacks though they sound as known ones do. ``mics`` ``(frames,)`` are those
    that are compared, ``own`` the places among them of the mics close to each piece, the nearest first."""
    out = list(hits)
    heard: list[Array] = []
    for piece, ears in own.items():
        listed = [h for h in hits if h.piece == piece]
        known = [h for h in listed if h.confidence >= KNOWN and h.kind != "ghost"]
        if piece_family(piece) != "tom" or len(known) < FEWEST:
            continue
        heard = heard or [_decimated(sound, rate) for sound in mics]
        own_rate = rate / max(rate // RATE_HZ, 1)
        times = np.array([h.time_s for h in listed])
        others = [h for h in hits if h.piece != piece]
        found = [
            (time_s, level_db)
            for time_s, level_db in _places(heard, ears[0], known, others, own_rate)
            if np.abs(times - time_s).min() > APART_S
        ]
        if len(found) > len(known) and _fall_with_one([time_s for time_s, _ in found], others):
            continue
        out += [as_hit_at(piece, t, level, SURE, mics[ears[0]], rate) for t, level in found]
    return sorted(out, key=lambda h: (h.time_s, h.piece))


def _fall_with_one(times: Sequence[float], others: Sequence[Hit]) -> bool:
    """Whether most of these fall with hits of one and the same other piece. Where they are more than a tom's known
    ones, its mic hears that piece."""
    for piece in {h.piece for h in others}:
        theirs = np.array([h.time_s for h in others if h.piece == piece])
        near = [float(np.abs(theirs - t).min()) <= TOGETHER_S for t in times]
        if np.mean(near) >= MOST:
            return True
    return False


def _decimated(sound: NDArray[np.float32], rate: int) -> Array:
    sections = scipy.signal.butter(2, BAND_HZ, "bandpass", fs=rate, output="sos")
    out: Array = scipy.signal.sosfiltfilt(sections, sound)[:: max(rate // RATE_HZ, 1)]
    return out


def _places(
    heard: Sequence[Array], ear: int, known: Sequence[Hit], others: Sequence[Hit], rate: float
) -> list[tuple[float, float]]:
    """Where a tom sounds as its ``known`` hits do: time in s and level in dB as theirs are told; nowhere if so do
    the ``others``, for then the known ones are their bleed."""
    before, size = round(BEFORE_S * rate), round((BEFORE_S + AFTER_S) * rate)
    middle = float(np.median([h.level_db for h in known]))
    loud = [h for h in known if h.level_db >= middle]
    first = np.array([round(h.time_s * rate) - before for h in loud])
    reach = round(REACH_S * rate)
    first = first[(first >= reach) & (first + size + reach < len(heard[ear]))]
    if not len(first):
        return []
    first = first + _in_step(heard[ear], first, size, reach)
    norms = np.array([np.linalg.norm(heard[ear][at : at + size]) for at in first]) + 1e-9
    like, power, wanted = np.zeros(len(heard[ear])), np.zeros(len(heard[ear])), 0.0
    like_own = power_own = np.zeros(0)
    for number, sound in enumerate(heard):
        shape = np.mean(
            [sound[at : at + size] / n for at, n in zip(first, norms, strict=True)], axis=0
        )
        alike, loudness, own = _compared(sound, shape), _powers(sound, size), float(shape @ shape)
        like, power, wanted = like + alike, power + loudness, wanted + own
        if number == ear:
            like_own, power_own = alike / np.sqrt(np.maximum(loudness * own, 1e-18)), loudness
    like = like / np.sqrt(np.maximum(power * wanted, 1e-18))
    level_db = 10 * np.log10(np.maximum(power_own, 1e-12))
    level_db += middle - float(np.median(level_db[first]))
    if _is_bleed(like, level_db - middle, known, others, before, rate):
        return []
    tops, _ = scipy.signal.find_peaks(like_own, height=ALIKE_OWN, distance=round(APART_S * rate))
    fit = (like[tops] >= ALIKE_ALL) & (level_db[tops] >= middle - WITHIN_DB)
    return [((at + before) / rate, float(level_db[at])) for at in tops[fit]]


def _is_bleed(
    like: Array,
    level_db: Array,
    known: Sequence[Hit],
    others: Sequence[Hit],
    before: int,
    rate: float,
) -> bool:
    """Whether some other piece sounds so in the tom's mic where it is hit without the tom."""
    own = np.array([h.time_s for h in known])
    reach = round(REACH_S * rate)
    for piece in {h.piece for h in others}:
        alone = [
            h.time_s for h in others if h.piece == piece and np.abs(own - h.time_s).min() > APART_S
        ]
        around = [
            slice(max(at - reach, 0), at + reach + 1)
            for at in (round(t * rate) - before for t in alone)
        ]
        heard = [
            bool(np.any((like[some] >= BLEED_ALIKE) & (level_db[some] >= -BLEED_WITHIN_DB)))
            for some in around
        ]
        if len(heard) >= FEWEST and np.mean(heard) > BLEED_SHARE:
            return True
    return False


def _in_step(sound: Array, first: NDArray[np.int64], size: int, reach: int) -> NDArray[np.int64]:
    """By how many samples each place is to be moved so that all lie over the first of them."""
    shape = sound[first[0] : first[0] + size]
    ways = np.arange(-reach, reach + 1)
    rows = np.array([[sound[at + way : at + way + size] for way in ways] for at in first])
    like = rows @ shape / (np.linalg.norm(rows, axis=2) + 1e-9)
    return ways[like.argmax(axis=1)]


def _compared(sound: Array, shape: Array) -> Array:
    """The sum of products of ``shape`` with the sound from each sample on, ``(frames,)``."""
    padded = np.concatenate([sound, np.zeros(len(shape) - 1)])
    out: Array = scipy.signal.fftconvolve(padded, shape[::-1], "valid")
    return out


def _powers(sound: Array, size: int) -> Array:
    """The sum of squares of ``size`` samples from each on, ``(frames,)``."""
    sums = np.concatenate([[0.0], np.cumsum(np.concatenate([sound, np.zeros(size - 1)]) ** 2)])
    return np.maximum(sums[size:] - sums[:-size], 0.0)
