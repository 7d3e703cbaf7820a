"""The floor under detection: hits that a drum's own mic shows beyond what bleed can reach there.

Physics alone, nothing learned. An onset in a close mic is compared with what every other mic hears at that
moment: each of them, by the path that was measured in this very song, says how loud its drum's bleed
should be here. What stands far above all of these is a hit, whatever any model says.

* *leader*: the close mic that an onset reaches first. Where another leads, this mic hears bleed.
* *path* from Q to P: by how many dB P usually hears less than Q, of the onsets that Q leads.
* *excess*: by how many dB an onset stands above the loudest bleed that any path predicts.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.hit import Hit, hit_id, kind_of, velocity_of
from arkund.core.kit.roles import piece_family

FRAME_S = 0.00025
"""Peaks are taken of frames so long: fine enough to tell which mic comes first."""

RISE_DB = 6.0
"""How far an onset stands above what sounded in the 12 ms before."""

RISE_FRAMES, BEFORE_FRAMES, LEVEL_FRAMES = 16, 48, 48
RING_FRAMES = 112
"""A ring that beats or dips comes back within so long: nothing in that is new."""

APART_S = 0.018
OF_PEAK = 0.25
AROUND_S = (0.006, 0.010)
"""Where other mics are listened to around an onset: sound needs some ms from drum to drum."""

FIRST_S = 0.0003
LEADS_S = 0.005
"""The leader is ahead by so much at least, and by no more than sound needs across a kit."""

FAR_DB = 6.0
"""The same for overheads, which hear every piece: they are asked for the sake of cymbals without a mic."""

LOUD, PARTED_DB = 98, -3.0
"""Percentile of a mic's onsets that is as loud as its drum gets; and by how much less than that the
loudest hit of another drum is heard here at least. (A single onset may be led by chance.)"""

SURELY_S, LEADING_DB = 0.0005, 12.0
"""An onset that is ahead of another mic's by so much is no bleed of what that hears, unless the times
deceive: so much less of it is expected."""

FEWEST_OF_A_PATH = 1
USUAL, SPREAD_DB = 20, 6.0
"""Percentile of what a path lets through that counts as its usual bleed: of the onsets that a mic leads,
many fall together with a hit of this drum. And by how much bleed of single hits exceeds the usual."""

OVER_DB = {"tom": 7.0}
OTHERS_OVER_DB = 10.0
"""How far above all predicted bleed an onset is taken for the drum's own, by family. (Of tom onsets
beyond it, on 44 worlds of three sources, 94 in 100 were hits.)"""

WITHIN_DB = {"tom": 18.0}
OTHERS_WITHIN_DB = 9.0
"""A hit so far under the drum's loudest is left to finer judgement, by family: a kick's beater that
bounces stands as clear as a hit."""

FAINT_DB = 15.0
"""How far an onset stands above the mic's noise at least."""


@dataclass(frozen=True)
class Onsets:
    """Onsets of one mic: the frame in which each begins, and its level as amplitude, what sounded before
    taken off."""

    at: NDArray[np.int64]
    level: NDArray[np.float64]


@dataclass(frozen=True)
class Clear:
    """A hit that stands clear: its time in s, its excess over predicted bleed in dB, and its level in
    dB against the loudest such one."""

    time_s: float
    excess_db: float
    level_db: float


def frame_peaks(sound: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """Largest magnitude in each frame of `FRAME_S`, ``(frames,)``, of a mic ``(samples,)``."""
    edges = (np.arange(int(len(sound) / rate / FRAME_S) + 1) * FRAME_S * rate).astype(np.int64)
    edges = edges[edges < len(sound)]
    if not len(edges):
        return np.zeros(0)
    return np.maximum.reduceat(np.abs(sound), edges).astype(np.float64)


def onsets_in(peaks: NDArray[np.float64], steep: NDArray[np.float64]) -> Onsets:
    """Onsets of a mic from the peaks of its frames and those of its slope."""
    rises = _rises(peaks) | _rises(steep)
    frames = np.flatnonzero(rises)
    if not len(frames):
        return Onsets(np.zeros(0, np.int64), np.zeros(0))
    apart = round(APART_S / FRAME_S)
    first = frames[np.diff(frames, prepend=-10 * apart) > 8]
    padded = np.concatenate([peaks, np.zeros(LEVEL_FRAMES)])
    at: list[int] = []
    for frame in first:
        ahead = padded[frame : frame + LEVEL_FRAMES]
        begin = int(frame + np.argmax(ahead >= OF_PEAK * ahead.max()))
        if not at or begin - at[-1] >= apart:
            at.append(begin)
    places = np.array(at, np.int64)
    return Onsets(places, new_level(peaks, places, 0, LEVEL_FRAMES))


def new_level(
    peaks: NDArray[np.float64], at: NDArray[np.int64], before: int, after: int
) -> NDArray[np.float64]:
    """The level that is new around frames: the peak from ``before`` frames earlier to ``after`` later,
    less in power than what sounded in the 28 ms before that."""
    highest = _running_max(peaks, before + after)
    earlier = _running_max(np.concatenate([np.zeros(RING_FRAMES), peaks]), RING_FRAMES)
    start = np.clip(at - before, 0, len(peaks) - 1)
    loud, rest = highest[start], earlier[start]
    # Where nothing is new it may be hidden in what rings: a fifth of that at most.
    out: NDArray[np.float64] = np.sqrt(np.maximum(loud**2 - rest**2, (0.2 * loud) ** 2) + 1e-14)
    return out


def clear_hits(
    close: Mapping[str, NDArray[np.float32]],
    distant: Sequence[NDArray[np.float32]],
    rate: int,
    wanted: Sequence[str],
) -> dict[str, list[Clear]]:
    """The hits of the ``wanted`` pieces that stand clear of all bleed, in order of time.

    ``close`` is each piece's nearest mic ``(samples,)``, ``distant`` the overheads, all of one ``rate``.
    """
    names = list(close)
    peaks = [frame_peaks(close[name], rate) for name in names]
    steep = [frame_peaks(np.diff(close[name], prepend=np.float32(0)), rate) for name in names]
    found = [onsets_in(p, s) for p, s in zip(peaks, steep, strict=True)]
    far = [frame_peaks(sound, rate) for sound in distant]
    paths = _paths(found, peaks, far)
    out = {}
    for name in wanted:
        if name in close:
            family = piece_family(name)
            bounds = (
                OVER_DB.get(family, OTHERS_OVER_DB),
                WITHIN_DB.get(family, OTHERS_WITHIN_DB),
            )
            out[name] = _clear(names.index(name), bounds, found, peaks, far, paths)
    return out


@dataclass(frozen=True)
class _Paths:
    """How much of each mic's own sound each close mic hears, in dB: ``close[p, q]`` from the close mic q
    to p (-inf where it was never measured), ``far[p, d]`` from the overhead d."""

    close: NDArray[np.float64]
    far: NDArray[np.float64]


def added_to(
    hits: Sequence[Hit],
    close: Mapping[str, NDArray[np.float32]],
    distant: Sequence[NDArray[np.float32]],
    rate: int,
    wanted: Sequence[str],
) -> list[Hit]:
    """The list with the clear hits that it lacks: none within `SAME_S` of them. Sorted by time.

    A drum that has no other hit is only believed to be hit where one of its clear hits stands out by
    `ANCHOR_DB`; else its moments are for an ear to judge (`moments`).
    """
    out = list(hits)
    for piece, clear in clear_hits(close, distant, rate, wanted).items():
        own = [h for h in hits if h.piece == piece]
        if not own and max((one.excess_db for one in clear), default=0.0) < ANCHOR_DB:
            continue
        known = np.array([h.time_s for h in own])
        levels = {h.time_s: h.level_db for h in own}
        shift_db = _shift_db(clear, known, levels)
        for one in clear:
            if np.abs(known - one.time_s).min(initial=np.inf) > SAME_S:
                out.append(_as_hit(piece, one, close[piece], rate, shift_db))
    return sorted(out, key=lambda h: (h.time_s, h.piece))


SAME_S = 0.025
ANCHOR_DB = 12.0
SURE, SUREST, SUREST_DB = 0.92, 0.99, 20.0
"""How sure a clear hit is at the least, and at the most: from so many dB of excess on."""


def _shift_db(
    clear: Sequence[Clear], known: NDArray[np.float64], levels: Mapping[float, float]
) -> float:
    """What is added to a clear hit's level so that it is measured as listed ones are: against the
    piece's loud hits. 0 where none of them is listed."""
    both = []
    for one in clear:
        if len(known) and np.abs(known - one.time_s).min() <= SAME_S:
            nearest = float(known[np.argmin(np.abs(known - one.time_s))])
            both.append(levels[nearest] - one.level_db)
    return float(np.median(both)) if both else 0.0


def _as_hit(piece: str, one: Clear, sound: NDArray[np.float32], rate: int, shift_db: float) -> Hit:
    begin = round((one.time_s - PLACE_S[0]) * rate)
    around = sound[max(begin, 0) : round((one.time_s + PLACE_S[1]) * rate)]
    at = first_arrival(around, 0, len(around), round(0.0014 * rate))
    time_s = round((max(begin, 0) + float(at)) / rate, 6)
    level_db = round(one.level_db + shift_db, 2)
    share = min(max(one.excess_db, 0.0) / SUREST_DB, 1.0)
    return Hit(
        id=hit_id(piece, time_s),
        piece=piece,
        time_s=time_s,
        velocity=velocity_of(level_db),
        kind=kind_of(level_db),
        confidence=round(SURE + (SUREST - SURE) * share, 3),
        level_db=level_db,
    )


PLACE_S = (0.004, 0.008)
"""Where a hit's first arrival is looked for around the frame in which it rises."""


def _leaders(found: Sequence[Onsets]) -> list[NDArray[np.bool_]]:
    """Of each mic's onsets, those that it hears before every other close mic."""
    out = []
    for p, own in enumerate(found):
        leads = np.ones(len(own.at), bool)
        for q, other in enumerate(found):
            if q != p and len(other.at):
                leads &= _ahead_s(own.at, other.at) >= FIRST_S
        out.append(leads)
    return out


def _ahead_s(own: NDArray[np.int64], other: NDArray[np.int64]) -> NDArray[np.float64]:
    """By how much each of ``own`` is ahead of the nearest of the ``other`` onsets within `LEADS_S`;
    infinite where there is none."""
    known = np.concatenate([[-(1 << 40)], other, [1 << 40]])
    after = np.searchsorted(known, own)
    gaps = np.stack([known[after] - own, known[after - 1] - own]) * FRAME_S
    nearest = np.where(np.abs(gaps[0]) <= np.abs(gaps[1]), gaps[0], gaps[1])
    return np.where(np.abs(nearest) <= LEADS_S, nearest, np.inf)


def _paths(
    found: Sequence[Onsets],
    peaks: Sequence[NDArray[np.float64]],
    far: Sequence[NDArray[np.float64]],
) -> _Paths:
    before, after = (round(s / FRAME_S) for s in AROUND_S)
    leads = _leaders(found)
    loud_db = [
        float(np.percentile(20 * np.log10(np.maximum(one.level, 1e-9)), LOUD))
        if len(one.at)
        else 0.0
        for one in found
    ]
    close = np.full((len(found), len(found)), -np.inf)
    distant = np.full((len(found), len(far)), -np.inf)
    for p in range(len(found)):
        over_far: list[list[float]] = [[] for _ in far]
        for q, other in enumerate(found):
            if q == p or not leads[q].any():
                continue
            at, level = other.at[leads[q]], other.level[leads[q]]
            here = new_level(peaks[p], at, 4, before + after)
            share = 20 * np.log10(here / level)
            if len(share) >= FEWEST_OF_A_PATH:
                most = loud_db[p] - loud_db[q] - PARTED_DB
                close[p, q] = min(float(np.percentile(share, USUAL)) + SPREAD_DB, most)
            for d, sound in enumerate(far):
                there = new_level(sound, at, 4, before + after + 24)
                over_far[d].append(
                    float(np.percentile(20 * np.log10(here / there), USUAL)) + FAR_DB
                )
        for d, values in enumerate(over_far):
            if values:
                distant[p, d] = min(values)
    return _Paths(close, distant)


def excesses_db(
    p: int,
    found: Sequence[Onsets],
    peaks: Sequence[NDArray[np.float64]],
    far: Sequence[NDArray[np.float64]],
    paths: _Paths,
) -> NDArray[np.float64]:
    """By how many dB each onset of a mic exceeds the loudest bleed that any path predicts there."""
    before, after = (round(s / FRAME_S) for s in AROUND_S)
    own = found[p]
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    worst = np.full(len(own.at), -200.0)
    for q in range(len(found)):
        if q != p and np.isfinite(paths.close[p, q]):
            there = new_level(peaks[q], own.at, before, before + after)
            ahead_s = _ahead_s(own.at, found[q].at)
            leads = np.isfinite(ahead_s) & (ahead_s >= SURELY_S)
            predicted = 20 * np.log10(there) + paths.close[p, q] - LEADING_DB * leads
            worst = np.maximum(worst, predicted)
    for d, sound in enumerate(far):
        if np.isfinite(paths.far[p, d]):
            there = new_level(sound, own.at, 8, before + after + 24)
            worst = np.maximum(worst, 20 * np.log10(there) + paths.far[p, d])
    out: NDArray[np.float64] = level_db - worst
    return out


def _clear(
    p: int,
    bounds_db: tuple[float, float],
    found: Sequence[Onsets],
    peaks: Sequence[NDArray[np.float64]],
    far: Sequence[NDArray[np.float64]],
    paths: _Paths,
) -> list[Clear]:
    own, (over_db, within_db) = found[p], bounds_db
    if not len(own.at):
        return []
    excess = excesses_db(p, found, peaks, far, paths)
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    noise_db = 20 * np.log10(max(float(np.median(peaks[p])), 1e-7))
    is_clear = (excess >= over_db) & (level_db >= noise_db + FAINT_DB)
    if not is_clear.any():
        return []
    loudest = float(level_db[is_clear].max())
    is_clear &= level_db >= loudest - within_db
    return [
        Clear(float(at * FRAME_S), float(e), float(level - loudest))
        for at, e, level in zip(own.at[is_clear], excess[is_clear], level_db[is_clear], strict=True)
    ]


def _rises(peaks: NDArray[np.float64]) -> NDArray[np.bool_]:
    if len(peaks) <= BEFORE_FRAMES:
        return np.zeros(len(peaks), bool)
    ahead = _running_max(peaks, RISE_FRAMES)
    earlier = np.concatenate(
        [np.zeros(BEFORE_FRAMES), _running_max(peaks, BEFORE_FRAMES)[:-BEFORE_FRAMES]]
    )
    out: NDArray[np.bool_] = ahead > earlier * 10 ** (RISE_DB / 20) + 1e-6
    return out


def _running_max(values: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """Largest of each value and the ``length`` - 1 after it, by doubling."""
    out = values.copy()
    have = 1
    while have < length:
        step = min(have, length - have)
        if step >= len(out):
            break
        out[:-step] = np.maximum(out[:-step], out[step:])
        have += step
    return out
