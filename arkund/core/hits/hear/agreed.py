"""Where soft hits begin: agreed among hits of the drum that sound alike.

What still rings, or a kick at the same moment, hides the first milliseconds of a hit, which is then
noticed at a later step of its own, or at the kick. From its beginning on, though, it sounds like the
drum's other hits that are about as loud. Laid over it, each of these says where it begins; where
most say the same, and fit far better there than where it was noticed, it begins there.
"""

from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.slowed import Slowed

BAND_HZ = (250.0, 3500.0)
"""Where a snare's hit has its shape, and a kick little."""

BEFORE_S, AFTER_S = 0.002, 0.016
"""How much of a hit about its beginning is laid over others."""

REACH_S = 0.012
"""How far from where it was noticed a hit may begin."""

PEERS = 16
"""So many hits, the nearest by level, say where one begins."""

ALIKE = 0.8
"""Least correlation of a hit that says anything."""

FEWEST, MOST = 4, 0.4
"""So many must say something, and so large a share of them the same."""

SAME_S, LEAST_S = 0.001, 0.0025
"""Within so much they say the same; and what is nearer stays, for other ways time it better."""

FAR_BETTER = 0.6
"""What is left unlike there, against what is unlike where it was noticed."""

STEP_S = 0.0005
"""The fit where a hit was noticed is the best within one such step."""

ROUNDS = 4
"""A hit that was moved says better where others begin."""

UNLIKE = 1e-6


@dataclass(frozen=True)
class _Fits:
    """Of each hit (row) its ``peers`` (column; −1 for none), after how many s each fits best
    (``lag_s``) and how well (``alike``), and how well within each `STEP_S` of lag (``curve``,
    ``(hits, peers, steps)``, the middle one about no lag)."""

    peers: NDArray[np.int64]
    lag_s: NDArray[np.float64]
    alike: NDArray[np.float32]
    curve: NDArray[np.float32]


def shaped(slow: Slowed) -> Slowed:
    """What lies within `BAND_HZ` of a sound."""
    return replace(slow, sound=slow.within(BAND_HZ))


def agreed(
    body: Slowed, place: NDArray[np.float64], level_db: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Where hits noticed at each ``place``, so loud, begin; both ``(hits,)``, places in samples of
    the whole sound, of which ``body`` is what is `shaped`. Those of which too few others say the same stay."""
    if len(place) <= FEWEST:
        return place
    fits = _laid_over(body, place / body.step, level_db)
    moved_s = np.zeros(len(place))
    for _ in range(ROUNDS):
        again = _said_by_most(fits, moved_s)
        if np.array_equal(again, moved_s):
            break
        moved_s = again
    out: NDArray[np.float64] = place + np.where(
        np.abs(moved_s) > LEAST_S, moved_s * body.rate * body.step, 0.0
    )
    return out


def _laid_over(body: Slowed, at: NDArray[np.float64], level_db: NDArray[np.float64]) -> _Fits:
    """Every hit with its peers laid over it, ``at`` in samples of the slowed sound."""
    whole, rate = body.sound, body.rate
    before, after, reach = (round(s * rate) for s in (BEFORE_S, AFTER_S, REACH_S))
    begin = np.round(at).astype(np.int64)
    inside = (begin >= before + reach) & (begin + after + reach < len(whole))
    held = np.where(inside, begin, before + reach)
    size, wide = before + after, before + after + 2 * reach
    around = np.arange(wide) - before - reach
    sound = whole[np.clip(held[:, None] + around, 0, len(whole) - 1)].astype(np.float64)
    energy = np.cumsum(np.square(np.pad(sound, ((0, 0), (1, 0)))), axis=1)
    strengths = np.sqrt(np.maximum(energy[:, size:] - energy[:, :-size], 1e-12 * energy[:, -1:]))
    core = sound[:, reach : reach + size]
    strength = np.linalg.norm(core, axis=1)
    length = scipy.fft.next_fast_len(wide + size)
    heard, laid = scipy.fft.rfft(sound, length), scipy.fft.rfft(core[:, ::-1], length)
    peers = _nearest_by_level(level_db, inside)
    step = round(STEP_S * rate)
    edges = np.arange(0, 2 * reach + 1, step)
    shape = (*peers.shape, len(edges))
    lag_s, alike = np.zeros(peers.shape), np.zeros(peers.shape, np.float32)
    curve = np.zeros(shape, np.float32)
    for n in np.flatnonzero(inside):
        mine = peers[n][peers[n] >= 0]
        sums = scipy.fft.irfft(heard[n] * laid[mine], length)[:, size - 1 : size + 2 * reach]
        fit = sums / (strength[mine][:, None] * strengths[n] + 1e-18)
        best, of = fit.argmax(axis=1), np.arange(len(mine))
        lag_s[n, of], alike[n, of] = (best - reach) / rate, fit[of, best]
        curve[n, of] = np.maximum.reduceat(fit, edges, axis=1)
    return _Fits(peers, lag_s, alike, curve)


def _nearest_by_level(
    level_db: NDArray[np.float64], inside: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """``(hits, PEERS)``: of each hit the others about it in order of level; −1 where there are
    fewer, and where they are not ``inside`` the sound."""
    order = np.argsort(level_db, kind="stable")
    rank = np.argsort(order, kind="stable")
    count = len(order)
    first = np.clip(rank - PEERS // 2, 0, max(count - PEERS - 1, 0))
    index = first[:, None] + np.arange(PEERS + 1)
    found = np.where(index < count, order[np.minimum(index, count - 1)], -1)
    # Each row holds the hit itself, if it is not the last that was asked for.
    own = found == np.arange(count)[:, None]
    place = np.argsort(own, axis=1, kind="stable")[:, :PEERS]
    out = np.take_along_axis(found, place, axis=1)
    return np.where((out >= 0) & inside[np.maximum(out, 0)], out, -1)


def _said_by_most(fits: _Fits, moved_s: NDArray[np.float64]) -> NDArray[np.float64]:
    """By how many s each hit begins later than it was noticed, its peers having ``moved_s``."""
    says = (fits.peers >= 0) & (fits.alike >= ALIKE)
    by_peer = fits.lag_s + moved_s[fits.peers]
    said = np.hstack([np.where(says, by_peer, np.nan), np.zeros((len(moved_s), 1))])
    same = np.abs(said[:, :, None] - said[:, None, :]) <= SAME_S
    count = same.sum(axis=2)
    most = count.max(axis=1)
    rows = np.arange(len(said))
    earliest = np.argmin(np.where(count == most[:, None], said, np.inf), axis=1)
    chosen = same[rows, earliest]
    enough = (says.sum(axis=1) >= FEWEST) & (most >= MOST * (says.sum(axis=1) + 1))
    elsewhere = enough & ~chosen[:, -1]
    out = moved_s.copy()
    for n in np.flatnonzero(elsewhere):
        agreeing = np.flatnonzero(chosen[n, :-1])
        there = 1 - fits.alike[n, agreeing]
        here = 1 - _fit_here(fits, int(n), agreeing, moved_s)
        if np.median(there / (here + UNLIKE)) <= FAR_BETTER:
            out[n] = np.median(said[n, agreeing])
    return out


def _fit_here(
    fits: _Fits, hit: int, peers: NDArray[np.int64], moved_s: NDArray[np.float64]
) -> NDArray[np.float32]:
    """How well each of some peers fits where a hit was noticed, within a step either way."""
    steps = fits.curve.shape[2]
    index = np.round(-moved_s[fits.peers[hit, peers]] / STEP_S).astype(np.int64) + steps // 2
    near = np.clip(index[:, None] + np.arange(-1, 2), 0, steps - 1)
    best: NDArray[np.float32] = fits.curve[hit, peers[:, None], near].max(axis=1)
    return best
