"""Hits of a tom that sound as those already known do.

In a fill a tom is struck again while it rings, or with a kick or a snare that covers it in every other mic: what
tells it by its beginning alone fails there. A tom's first 30 ms in its own mic are as a fingerprint, for no bleed
has its pitch and its phase at once.
"""

from collections.abc import Callable, Mapping, Sequence
from functools import cache

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.choose.floor import as_hit_at
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family
from arkund.core.measure.decimate import decimated

BEFORE_S, AFTER_S = 0.012, 0.030
"""So much before a hit and after it is compared. Before a hit it is quiet; a drum that only rings on is not."""

BAND_HZ, RATE_HZ = (60.0, 1500.0), 6000
"""Where a tom's pitch and its beginning are, and at which rate that is compared, about."""

KNOWN, FEWEST = 0.8, 2
"""How sure a hit is that others are compared with, and how many of these there are at least."""

ALIKE_OWN, ALIKE_ALL = 0.87, 0.4
"""How alike (correlation) a hit is in the tom's own mic, and in all mics together at least. (On the 78
worlds by which this was chosen 22 hits were found so that nothing else told, and none that was none; on 20 others
none at all.)"""

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

    @cache
    def heard(number: int) -> Array:
        return _decimated(mics[number], rate)

    for piece, ears in own.items():
        listed = [h for h in hits if h.piece == piece]
        known = _sure(listed)
        if piece_family(piece) != "tom" or len(known) < FEWEST:
            continue
        own_rate = rate / max(rate // RATE_HZ, 1)
        others = [h for h in hits if h.piece != piece]
        every = [ears[0], *(n for n in range(len(mics)) if n != ears[0])]
        found = _places(heard, every, listed, others, own_rate)
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
    step = max(rate // RATE_HZ, 1)
    sections = scipy.signal.butter(2, BAND_HZ, "bandpass", fs=rate / step, output="sos")
    out: Array = scipy.signal.sosfiltfilt(sections, decimated(sound, step))
    return out


def _places(
    heard: Callable[[int], Array],
    every: Sequence[int],
    listed: Sequence[Hit],
    others: Sequence[Hit],
    rate: float,
) -> list[tuple[float, float]]:
    """Where a tom sounds as its ``listed`` hits do and none of them is: time in s and level in dB as theirs are told;
    nowhere if so do the ``others``, for then the known ones are their bleed. ``heard`` gives a mic's sound by its
    number, the tom's own is the first of ``every``."""
    known = _sure(listed)
    before, size = round(BEFORE_S * rate), round((BEFORE_S + AFTER_S) * rate)
    middle = float(np.median([h.level_db for h in known]))
    first = np.array([round(h.time_s * rate) - before for h in known if h.level_db >= middle])
    own, reach = heard(every[0]), round(REACH_S * rate)
    first = first[(first >= reach) & (first + size + reach < len(own))]
    if not len(first):
        return []
    first = first + _in_step(own, first, size, reach)
    norms = np.linalg.norm(_windows(own, first, size), axis=1) + 1e-9
    shape = (_windows(own, first, size) / norms[:, None]).mean(axis=0)
    power = _powers(own, size)
    like_own = _compared(own, shape) / np.sqrt(np.maximum(power * (shape @ shape), 1e-18))
    level_db = 10 * np.log10(np.maximum(power, 1e-12))
    level_db += middle - float(np.median(level_db[first]))
    tops, _ = scipy.signal.find_peaks(like_own, height=ALIKE_OWN, distance=round(APART_S * rate))
    times = np.array([h.time_s for h in listed])
    is_new = np.array([np.abs(times - (at + before) / rate).min() > APART_S for at in tops], bool)
    tops = tops[is_new & (level_db[tops] >= middle - WITHIN_DB)]
    if not len(tops):
        return []
    sounds = [heard(number) for number in every]
    shapes = [(_windows(sound, first, size) / norms[:, None]).mean(axis=0) for sound in sounds]
    tops = tops[_like_at(sounds, shapes, tops) >= ALIKE_ALL]
    for piece in {h.piece for h in others}:
        theirs = _nearest_tops(like_own, piece, known, others, before, rate)
        like = _like_at(sounds, shapes, theirs)
        is_so = (like >= BLEED_ALIKE) & (level_db[theirs] >= middle - BLEED_WITHIN_DB)
        if len(theirs) >= FEWEST and np.mean(is_so) > BLEED_SHARE:
            return []
    return [((at + before) / rate, float(level_db[at])) for at in tops]


def _sure(listed: Sequence[Hit]) -> list[Hit]:
    """The hits that others are compared with."""
    return [h for h in listed if h.confidence >= KNOWN and h.kind != "ghost"]


def _nearest_tops(
    like: Array, piece: str, known: Sequence[Hit], others: Sequence[Hit], before: int, rate: float
) -> NDArray[np.int64]:
    """Where the tom's mic is most like a tom's hit at each hit of another piece without it."""
    own, reach = np.array([h.time_s for h in known]), round(REACH_S * rate)
    times = [h.time_s for h in others if h.piece == piece]
    alone = [t for t in times if np.abs(own - t).min() > APART_S]
    starts = [max(round(t * rate) - before - reach, 0) for t in alone]
    starts = [at for at in starts if at + 2 * reach < len(like)]
    return np.array([at + int(like[at : at + 2 * reach + 1].argmax()) for at in starts], np.int64)


def _windows(sound: Array, first: NDArray[np.int64], size: int) -> Array:
    """``size`` samples from each place on, ``(places, size)``; silence behind the end."""
    at = first[:, None] + np.arange(size)
    out: Array = np.where(at < len(sound), sound[np.minimum(at, len(sound) - 1)], 0.0)
    return out


def _like_at(heard: Sequence[Array], shapes: Sequence[Array], first: NDArray[np.int64]) -> Array:
    """How alike (correlation) all mics together are to their ``shapes`` from each place on."""
    like, power = np.zeros(len(first)), np.zeros(len(first))
    for sound, shape in zip(heard, shapes, strict=True):
        rows = _windows(sound, first, len(shape))
        like, power = like + rows @ shape, power + np.einsum("ij,ij->i", rows, rows)
    wanted = sum(float(shape @ shape) for shape in shapes)
    return like / np.sqrt(np.maximum(power * wanted, 1e-18))


def _in_step(sound: Array, first: NDArray[np.int64], size: int, reach: int) -> NDArray[np.int64]:
    """How many samples to move each place so that all line up with the first."""
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
