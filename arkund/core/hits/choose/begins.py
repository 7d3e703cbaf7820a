"""Where a drum's hits begin: all of them alike.

A beater touches the head some milliseconds before the drum speaks, so one by one the soft hits are found at the
touch and the hard ones at the speaking, or all of them at that; a stick's is nearer, but bleed may cover it, too.
Laid over each other, the hits show how far each lies from the others; and added up, they show where their sound
begins: what other drums leave in the mic just then differs from hit to hit, and goes.
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit, hit_id
from arkund.core.kit.roles import is_shell

AHEAD_S, AFTER_S = 0.020, 0.026
"""So much of the sound before a hit and after it is looked at."""

REACH_S = 0.0115
"""Hits are moved over each other by no more than this."""

SHAPE_S = (-0.006, 0.020)
SLOPES_HZ = 3000.0
"""They are laid over each other by the slopes of this part of them, below this: what rings on from the hit before is
low, and what is higher differs from hit to hit."""

NEAR_REACH_S, FAR_COST = 0.0055, 0.15
"""A drum with a pitch looks the same one or two periods later. So a hit that would be moved farther than the first
figure must be more alike by the second."""

LEAST_LIKE = 0.5
"""A hit that is less like the others (correlation) goes with them."""

LEAST_S, MOST_S = 0.0006, 0.0115
"""A time that is off by less is right; nothing begins farther ahead."""

OTHERS_S = (-0.006, 0.020)
"""A hit is alone where no other shell is hit from so long after it to so long before it."""

FEWEST, ROUNDS = 5, 4
BEGINS_HZ = 300.0
"""Where sound begins is looked for above this: below, the hit before rings on, in time with this one where a drum is
played evenly."""

STEP_S, QUIET_S = 0.00025, 0.006
"""It is looked for in steps; what is there in the first part of what is looked at, is what was there before."""

FOOT_DB, OVER_DB = -28.0, 6.0
"""It begins where what all hits share comes within so much of its loudest, and so far above what was there."""

LASTS_S = 0.002
"""What all hits share is heard for half of this time at least. What a few hits share by chance is soon over."""

FAR_S, FAR_FOOT_DB, NEAR_S = 0.0062, -18.0, 0.014
"""Farther ahead than that a touch is nearly as loud as what follows: of a drum that speaks late. (What is softer is
the hit before, that rings on.) Else no more than the last part of what is ahead is asked."""

ASTRAY_S = 0.002
"""A covered hit that would be moved so much more or less than the others goes with them."""

Array = NDArray[np.float64]


def at_their_beginning(
    hits: Sequence[Hit], sound: NDArray[np.float32], piece: str, rate: float
) -> list[Hit]:
    """The hits, those of a shell ``piece`` at the time at which its ``sound`` ``(frames,)`` begins there."""
    own = [h for h in hits if h.piece == piece]
    if not is_shell(piece) or len(own) < FEWEST:
        return list(hits)
    others = np.array([h.time_s for h in hits if is_shell(h.piece) and h.piece != piece])
    times = np.array([h.time_s for h in own])
    late = _late_s(sound, times, others, rate)
    moved = {h.id: h.time_s + by for h, by in zip(own, late, strict=True) if by}
    return [
        replace(h, id=hit_id(piece, moved[h.id]), time_s=round(float(moved[h.id]), 6))
        if h.id in moved
        else h
        for h in hits
    ]


def _late_s(sound: NDArray[np.float32], times: Array, others: Array, rate: float) -> Array:
    """By how much each time is to be moved, in s: 0 or less."""
    after, before = OTHERS_S
    alone = np.array([not np.any((others > t - before) & (others < t - after)) for t in times])
    are_bare = bool(np.count_nonzero(alone) >= FEWEST)
    if not are_bare:
        # Then all of them: what is struck with them by hand is never struck just with them.
        alone = np.ones(len(times), bool)
    around = _around(sound, times, rate)
    like = _laid_over(around, alone, rate)
    lags, is_like = like.argmax(axis=1) - like.shape[1] // 2, like.max(axis=1) > LEAST_LIKE
    sure = alone & is_like
    begins = _beginning_s(around[sure], lags[sure], rate, are_bare=are_bare)
    if begins is None:
        return np.zeros(len(times))
    late = lags / rate + begins
    usual = float(np.median(late[sure]))
    is_astray = ~is_like | (~alone & (np.abs(late - usual) > ASTRAY_S))
    late = np.where(is_astray, _likelier(like, begins, usual, rate), late)
    return np.where((late <= -LEAST_S) & (late >= -MOST_S), late, 0.0)


def _likelier(like: Array, begins: float, usual: float, rate: float) -> Array:
    """By how much each hit is late if that can only be ``usual`` or not at all, in s."""
    lags = np.rint((np.array([0.0, usual]) - begins) * rate).astype(int) + like.shape[1] // 2
    as_found, as_usual = like[:, np.clip(lags, 0, like.shape[1] - 1)].T
    return np.where(as_usual > as_found, usual, 0.0)


def _around(sound: NDArray[np.float32], times: Array, rate: float) -> Array:
    """The sound around each time, ``(hits, frames)``, with room to be moved in; silence outside the file."""
    before, after = round((AHEAD_S + REACH_S) * rate), round((AFTER_S + REACH_S) * rate)
    at = np.rint(times * rate).astype(np.int64)[:, None] + np.arange(-before, after)
    inside = (at >= 0) & (at < len(sound))
    out: Array = np.where(inside, sound[np.clip(at, 0, len(sound) - 1)], 0.0).astype(np.float64)
    return out


def _laid_over(around: Array, alone: NDArray[np.bool_], rate: float) -> Array:
    """How like (correlation) each hit is to the shape of those ``alone`` if it lies so many samples later than that,
    ``(hits, lags)``; the lag in the middle is 0."""
    reach = round(REACH_S * rate)
    first, last = (round((AHEAD_S + REACH_S + s) * rate) for s in SHAPE_S)
    low = scipy.signal.butter(2, min(SLOPES_HZ, 0.45 * rate), fs=rate, output="sos")
    slopes = np.diff(scipy.signal.sosfiltfilt(low, around, axis=1), axis=1, append=0.0)
    level = np.sqrt(np.mean(slopes[:, first:last] ** 2, axis=1)) + 1e-12
    slopes = (slopes / level[:, None])[:, first - reach : last + reach]
    size = last - first
    # The loudest are clearest of all else.
    known = alone & (level >= np.median(level[alone]))
    shape = slopes[known, reach : reach + size].mean(axis=0)
    sums = np.cumsum(np.pad(slopes**2, ((0, 0), (1, 0))), axis=1)
    energy = sums[:, size:] - sums[:, :-size]
    spectra = scipy.fft.rfft(slopes, axis=1)
    cost = FAR_COST * (np.abs(np.arange(-reach, reach + 1)) > NEAR_REACH_S * rate)
    like = np.zeros((len(around), 2 * reach + 1))
    for _ in range(ROUNDS):
        turned = np.conj(scipy.fft.rfft(shape, slopes.shape[1]))
        like = scipy.fft.irfft(spectra * turned, slopes.shape[1], axis=1)[:, : 2 * reach + 1]
        like = like / np.sqrt(energy * (shape @ shape) + 1e-20) - cost
        lags, most = like.argmax(axis=1), like.max(axis=1)
        sure = alone & (most > LEAST_LIKE)
        if not sure.any():
            break
        laid = [
            s[lag : lag + size] * w
            for s, lag, w in zip(slopes[sure], lags[sure], most[sure], strict=True)
        ]
        shape = np.mean(laid, axis=0)
    return like


def _beginning_s(
    around: Array, lags: NDArray[np.int64], rate: float, *, are_bare: bool
) -> float | None:
    """Where the sound that all hits share begins, in s from where they were laid; None where it does not stand out."""
    if len(around) < FEWEST:
        return None
    reach = round(REACH_S * rate)
    high = scipy.signal.butter(2, BEGINS_HZ, "highpass", fs=rate, output="sos")
    first, last = (round((AHEAD_S + REACH_S + s) * rate) for s in SHAPE_S)
    level = np.sqrt(np.mean(around[:, first:last] ** 2, axis=1)) + 1e-12
    heard = scipy.signal.sosfilt(high, around / level[:, None], axis=1)
    width = heard.shape[1] - 2 * reach
    laid = np.stack(
        [h[reach + lag : reach + lag + width] for h, lag in zip(heard, lags, strict=True)]
    )
    step = max(round(STEP_S * rate), 1)
    by_step = laid[:, : width // step * step].reshape(len(laid), -1, step)
    # What one half of the hits shares with the other: all else is as often with it as against it.
    shared = np.mean(by_step[::2].mean(axis=0) * by_step[1::2].mean(axis=0), axis=1)
    begins = [_begins(shared, step / rate, LASTS_S)]
    if are_bare:
        # No two touches need be alike; then it is what most hits have just there.
        begins.append(_begins(np.median(np.mean(by_step**2, axis=2), axis=0), step / rate))
    found = [b for b in begins if b is not None]
    return min(found) - AHEAD_S if found else None


def _begins(power: Array, step_s: float, lasts_s: float = 0.0) -> float | None:
    """Where a power over time (steps of ``step_s``) begins, in s, and is heard for half of ``lasts_s``. None where it
    does not stand out."""
    far = _foot(power, step_s, FAR_FOOT_DB, lasts_s)
    if far is not None and far < AHEAD_S - FAR_S:
        return far
    unheard = round((AHEAD_S - NEAR_S) / step_s)
    near = _foot(power[unheard:], step_s, FOOT_DB, lasts_s)
    if near is None or unheard * step_s + near < AHEAD_S - FAR_S:
        return None
    return unheard * step_s + near


def _foot(power: Array, step_s: float, foot_db: float, lasts_s: float) -> float | None:
    """Where a power comes within ``foot_db`` of its loudest, and over what was there before."""
    power = np.convolve(power, [0.25, 0.5, 0.25], "same")
    quiet = round(QUIET_S / step_s)
    top, was = float(power[quiet:].max()), float(np.percentile(np.abs(power[:quiet]), 90))
    least = max(top * 10 ** (foot_db / 10), was * 10 ** (OVER_DB / 10))
    is_over = power[quiet:] > least
    lasts = max(round(lasts_s / step_s), 1)
    stays = np.convolve(is_over, np.ones(lasts))[lasts - 1 :] >= lasts / 2
    found = np.flatnonzero(is_over & stays)
    return (quiet + int(found[0])) * step_s if len(found) and top > 0.0 else None
