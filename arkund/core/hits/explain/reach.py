"""What bleed can reach in each close mic, and how far an onset stands above it.

Physics alone, nothing learned. An onset in a close mic is compared with what every other mic hears at that
moment: each of them, by the path that was measured in this very song, says how loud its drum's bleed
should be here.

* *leader*: the close mic that an onset reaches first. Where another leads, this mic hears bleed.
* *path* from Q to P: by how many dB P usually hears less than Q, of the onsets that Q leads.
* *excess*: by how many dB an onset stands above the loudest bleed that any path predicts.
"""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

from arkund.core.hits.hear.onsets import (
    FRAME_S,
    LEVEL_FRAMES,
    RING_FRAMES,
    Onsets,
    frame_peaks,
    new_level,
    onsets_in,
)

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

OFTEN = 6
BOTH_WAYS_DB = 10.0
"""What sound loses from one drum's mic to another's and from that drum's to the first, together, at least:
the gains of both mics fall out of the sum. (On 44 worlds no pair lost less; one in twenty less than 17.)
The way back says this where a mic leads so `OFTEN`."""

SURELY_S, LEADING_DB = 0.0005, 12.0
"""An onset that is ahead of another mic's by so much is no bleed of what that hears, unless the times
deceive: so much less of it is expected."""

USUAL, LEAST, SPREAD_DB = 20, 5, 6.0
"""Percentile of what a path lets through that counts as its usual bleed: of the onsets that a mic leads,
many fall together with a hit of this drum. And by how much bleed of single hits exceeds the usual."""


@dataclass(frozen=True)
class Paths:
    """How much of each mic's own sound each close mic hears, in dB: ``close[p, q]`` from the close mic q
    to p (-inf where it was never measured), ``far[p, d]`` from the overhead d."""

    close: NDArray[np.float64]
    far: NDArray[np.float64]


@dataclass(frozen=True)
class Reach:
    """What bleed can reach in each close mic (of the pieces in ``names``): their onsets (``found``), the
    ``peaks`` of their frames and of the overheads' (``far``), and the ``paths`` between them; and the
    same paths with the least that was ever heard by them (``least``)."""

    names: list[str]
    found: list[Onsets]
    peaks: list[NDArray[np.float64]]
    far: list[NDArray[np.float64]]
    paths: Paths
    least: Paths


def reach_of(
    close: Mapping[str, NDArray[np.float32]], distant: Sequence[NDArray[np.float32]], rate: int
) -> Reach:
    """The reach of bleed in one take: ``close`` is each piece's nearest mic ``(samples,)``, ``distant``
    the overheads, all of one ``rate``."""
    names = list(close)
    with ThreadPoolExecutor(2) as pool:
        peaks = list(pool.map(lambda name: frame_peaks(close[name], rate), names))
        steep = pool.map(
            lambda name: frame_peaks(np.diff(close[name], prepend=np.float32(0)), rate), names
        )
        found = list(pool.map(onsets_in, peaks, steep))
        far = list(pool.map(lambda sound: frame_peaks(sound, rate), distant))
    return Reach(names, found, peaks, far, *_paths(found, peaks, far))


SAID = (
    "over bleed",
    "over bleed as near mics tell",
    "over bleed as overheads tell",
    "over the least bleed",
    "ahead of that bleed",
    "level against clear ones",
    "new by",
)
"""What `said_of_places` says, in order: excess in dB over all predicted bleed, by which mics, and over
the least that the paths ever let through; by how many ms the place is ahead of the onset that bleeds
most; the level against the loudest clear onset, and by how much it is new (dB)."""


AHEAD_AT_MOST_MS = 6.0
CLEAR_DB = 7.0


def said_of_places(
    reach: Reach, name: str, places_s: NDArray[np.float64]
) -> list[NDArray[np.float64]]:
    """The columns `SAID`, each ``(places,)``, of places at times in s in one piece's nearest mic."""
    p = reach.names.index(name)
    peaks = reach.peaks[p]
    if not len(peaks):
        return [np.full(len(places_s), np.nan) for _ in SAID]
    at = np.clip((places_s / FRAME_S).astype(np.int64), 0, len(peaks) - 1)
    here = Onsets(at, new_level(peaks, at, PLACE_FRAMES, LEVEL_FRAMES))
    by_near, by_far, most = _predicted_db(reach, p, here, reach.paths, 0.0)
    least_near, least_far, _ = _predicted_db(reach, p, here, reach.least, 0.0)
    level_db = 20 * np.log10(here.level)
    clear = excesses_db(reach, p)
    is_clear = clear >= CLEAR_DB
    own_db = 20 * np.log10(reach.found[p].level) if len(is_clear) else np.zeros(0)
    loudest = float(own_db[is_clear].max()) if is_clear.any() else float(own_db.max(initial=-200.0))
    padded = np.concatenate([np.zeros(RING_FRAMES), peaks])
    earlier = sliding_window_view(padded, RING_FRAMES)[np.maximum(at - PLACE_FRAMES, 0)].max(axis=1)
    ahead = np.full(len(at), np.nan)
    for q, other in enumerate(reach.found):
        bleeds = most == q
        if bleeds.any():
            lag = _ahead_s(at[bleeds], other.at) * 1000
            ahead[bleeds] = np.where(np.isfinite(lag), lag, AHEAD_AT_MOST_MS)
    return [
        level_db - np.maximum(by_near, by_far),
        level_db - by_near,
        level_db - by_far,
        level_db - np.maximum(least_near, least_far),
        ahead,
        level_db - loudest,
        np.minimum(level_db - 20 * np.log10(earlier + 1e-7), 60.0),
    ]


PLACE_FRAMES = 4
"""A place may lie so many frames behind where its sound begins."""


def _leaders(found: Sequence[Onsets]) -> list[NDArray[np.bool_]]:
    """Of each mic's onsets, those that it hears before every other close mic."""
    return [_ahead_of_all_s(found, p) >= FIRST_S for p in range(len(found))]


def ahead_of_all_s(reach: Reach, p: int) -> NDArray[np.float64]:
    """By how many s each onset of a close mic is ahead of every other close mic's nearest one within
    `LEADS_S`; negative where another comes first, infinite where no other hears anything then."""
    return _ahead_of_all_s(reach.found, p)


def _ahead_of_all_s(found: Sequence[Onsets], p: int) -> NDArray[np.float64]:
    out = np.full(len(found[p].at), np.inf)
    for q, other in enumerate(found):
        if q != p:
            out = np.minimum(out, _ahead_s(found[p].at, other.at))
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
) -> tuple[Paths, Paths]:
    """The usual paths, and the least."""
    before, after = (round(s / FRAME_S) for s in AROUND_S)
    leads = _leaders(found)
    loud_db = [
        float(np.percentile(20 * np.log10(np.maximum(one.level, 1e-9)), LOUD))
        if len(one.at)
        else 0.0
        for one in found
    ]
    close = np.full((2, len(found), len(found)), -np.inf)
    distant = np.full((2, len(found), len(far)), -np.inf)
    often = np.zeros(len(found), bool)
    for p in range(len(found)):
        over_far: list[list[NDArray[np.float64]]] = [[] for _ in far]
        for q, other in enumerate(found):
            if q == p or not leads[q].any():
                continue
            at, level = other.at[leads[q]], other.level[leads[q]]
            often[q] = len(at) >= OFTEN
            here = new_level(peaks[p], at, 4, before + after)
            usual, least = np.percentile(20 * np.log10(here / level), [USUAL, LEAST])
            most_db = loud_db[p] - loud_db[q] - PARTED_DB
            close[:, p, q] = min(usual + SPREAD_DB, most_db), min(least, most_db)
            for d, sound in enumerate(far):
                there = new_level(sound, at, 4, before + after + 24)
                over_far[d].append(
                    np.percentile(20 * np.log10(here / there), [USUAL, LEAST])
                    + np.array([FAR_DB, 0.0])
                )
        for d, values in enumerate(over_far):
            if values:
                distant[:, p, d] = np.min(values, axis=0)
    most = _by_the_way_back(close[1], often)
    return (
        Paths(np.minimum(close[0], most + SPREAD_DB), distant[0]),
        Paths(np.minimum(close[1], most), distant[1]),
    )


def _by_the_way_back(close: NDArray[np.float64], often: NDArray[np.bool_]) -> NDArray[np.float64]:
    """The most that each path ``(to, from)`` lets through, from what the way back does where the mic at
    its beginning leads ``often``; else infinite."""
    known = often[None, :] & np.isfinite(close)
    return np.where(known, -BOTH_WAYS_DB - close, np.inf).T


def excesses_db(reach: Reach, p: int) -> NDArray[np.float64]:
    """By how many dB each onset of a mic exceeds the loudest bleed that any path predicts there."""
    own = reach.found[p]
    near, far, _ = _predicted_db(reach, p, own, reach.paths, LEADING_DB)
    out: NDArray[np.float64] = 20 * np.log10(np.maximum(own.level, 1e-9)) - np.maximum(near, far)
    return out


def _predicted_db(
    reach: Reach, p: int, own: Onsets, paths: Paths, leading_db: float
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
    """Bleed that near mics and that overheads predict at the ``own`` places in a mic, in dB, and which
    near mic predicts most (−1 where none does); of what a place is surely ahead of, so much less."""
    before, after = (round(s / FRAME_S) for s in AROUND_S)
    near, far = np.full(len(own.at), -200.0), np.full(len(own.at), -200.0)
    most = np.full(len(own.at), -1)
    for q in range(len(reach.found)):
        if q != p and np.isfinite(paths.close[p, q]):
            there = new_level(reach.peaks[q], own.at, before, before + after)
            ahead_s = _ahead_s(own.at, reach.found[q].at)
            leads = np.isfinite(ahead_s) & (ahead_s >= SURELY_S)
            predicted = 20 * np.log10(there) + paths.close[p, q] - leading_db * leads
            most = np.where(predicted > near, q, most)
            near = np.maximum(near, predicted)
    for d, sound in enumerate(reach.far):
        if np.isfinite(paths.far[p, d]):
            there = new_level(sound, own.at, 8, before + after + 24)
            far = np.maximum(far, 20 * np.log10(there) + paths.far[p, d])
    return near, far, most
