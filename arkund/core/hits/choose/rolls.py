"""Rolls: hits on a snare so close that they are one sound, with a beginning and an end.

In a buzz no onset stands out; what tells it is that the drum's sound stays up where after a single
hit it would have died away. Both hands are at it, so no cymbal is struck meanwhile.
"""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.novelty import BRIGHT, BandEnergy
from arkund.core.hits.hit import SAME_HIT_S, Hit, hit_id, velocity_of
from arkund.core.kit.roles import is_shell, piece_family

SMOOTH_FRAMES = 12
FEWEST = 4
"""Loud hits from which on it is known how a drum dies away."""

UP_DB = -19.0
"""Level against loud hits above which a roll stays."""

DIP_MS, DIP_DB = 45, 9.0
"""Within a roll the sound never falls by so much in so many ms."""

LONGER_S = 0.16
"""How much longer than a single hit's the sound must stay up."""

OVERHEAD_DB = 7.0
"""How much more of a roll than of the drum's single hits the overheads may hear: what they hear
more of is a cymbal."""

LEVEL_DB = 4.0
"""The end of a roll is where the sound is last within this of its loudest 60 ms before."""

END_EARLY_S = 0.022
APART_S = 0.075

RUN_GAP_S, RUN_HITS = 0.092, 5
"""So many hits so close are a roll of singles."""


@dataclass(frozen=True)
class Buzz:
    """A buzz roll: places that stand for its hits, which cannot be told singly, evenly from
    beginning to end (``times_s``), and the level there against the drum's loud hits in dB."""

    times_s: tuple[float, ...]
    levels_db: tuple[float, ...]


RINGS_S, OTHER_HAND_S = 0.06, 0.02
"""What seems to ring of a cymbal without a mic, struck so little before a roll, is the roll; so near a
roll no hand is on a cymbal."""

TOM_BEGINS_S = 0.04
"""So near the beginning of a roll a hit begins it."""

LONGEST_HOLE_S, ROLL_CONFIDENCE = 0.12, 0.6
"""Hits without such a hole fill a roll; how sure those are that stand for one."""


def with_rolls(
    hits: Sequence[Hit],
    snares: Mapping[str, BandEnergy],
    overhead: BandEnergy | None,
    with_mic: Collection[str],
) -> list[Hit]:
    """The hits with what stands for buzz rolls on ``snares`` (the nearest mic of each), and without
    cymbals in rolls, for which both hands are needed. ``with_mic`` are the pieces that have a mic of
    their own."""
    out = list(hits)
    for piece, ear in snares.items():
        own = [h for h in out if h.piece == piece]
        loud = [h.time_s for h in own if h.kind == "accent"]
        rolls = runs_of_singles([h.time_s for h in own])
        for buzz in find_buzzes(ear, overhead, loud):
            begin, end = buzz.times_s[0], buzz.times_s[-1]
            if sum(begin < h.time_s < end for h in out if piece_family(h.piece) == "tom") > 1:
                continue  # both hands are on the toms: what stays up is their ring
            if _begins_on_a_tom(begin, out, own):
                continue
            rolls.append((begin, end))
            inside = [h for h in own if begin - SAME_HIT_S <= h.time_s <= end + SAME_HIT_S]
            if not _fill(inside, begin, end):
                out = [replace(h, kind="roll") if h in inside else h for h in out]
                out += _standing_for(piece, buzz, inside)
        out = [h for h in out if is_shell(h.piece) or not _in_roll(h, rolls, h.piece in with_mic)]
    return out


def _begins_on_a_tom(begin_s: float, hits: Sequence[Hit], own: Sequence[Hit]) -> bool:
    """Whether a tom is hit where a roll would begin, and the snare is not: then the snare's mic hears the
    tom's ring, and the wires that it stirs."""
    near = [h for h in hits if abs(h.time_s - begin_s) < TOM_BEGINS_S]
    return any(piece_family(h.piece) == "tom" for h in near) and not any(h in own for h in near)


def _fill(hits: Sequence[Hit], begin_s: float, end_s: float) -> bool:
    """Whether hits fill a roll without a hole."""
    times = np.array([begin_s, *(h.time_s for h in hits), end_s])
    return bool(np.diff(np.sort(times)).max() <= LONGEST_HOLE_S)


def _standing_for(piece: str, buzz: Buzz, known: Sequence[Hit]) -> list[Hit]:
    """Hits at a buzz's places, away from hits that are ``known``."""
    times = np.array([h.time_s for h in known])
    return [
        Hit(
            hit_id(piece, at),
            piece,
            round(at, 6),
            velocity_of(level),
            "roll",
            ROLL_CONFIDENCE,
            round(level, 2),
        )
        for at, level in zip(buzz.times_s, buzz.levels_db, strict=True)
        if np.abs(times - at).min(initial=np.inf) > SAME_HIT_S
    ]


def _in_roll(cymbal: Hit, rolls: Sequence[tuple[float, float]], has_mic: bool) -> bool:
    before = OTHER_HAND_S if has_mic else -RINGS_S
    return any(b + before < cymbal.time_s < e + OTHER_HAND_S for b, e in rolls)


def find_buzzes(
    ear: BandEnergy, overhead: BandEnergy | None, loud_s: Sequence[float]
) -> list[Buzz]:
    """The buzz rolls that a snare's close mic ``ear`` hears.

    ``loud_s`` are times of single loud hits of it; an ``overhead`` that hears the whole kit
    says whether what stays up is the drum. Empty where there are too few hits.
    """
    level = _level_db(ear)
    # A frame is a whole number of samples: 44 at 44.1 kHz, which is not quite a millisecond.
    per_s = ear.rate / ear.hop
    frames = np.array([round(t * per_s) for t in loud_s], np.int64)
    frames = frames[(frames >= 0) & (frames < len(level) - 400)]
    if len(frames) < FEWEST:
        return []
    peaks = np.array([level[f : f + 15].max() for f in frames])
    level = level - float(np.median(peaks))
    dies = _time_to_fall(level, frames)
    elsewhere = _level_db(overhead) if overhead is not None else None
    usual = _apart_db(level, elsewhere, frames) if elsewhere is not None else np.zeros(1)
    out = []
    for begin, end in _runs(level > UP_DB):
        if end - begin < dies + 1000 * LONGER_S:
            continue
        for first, last in _steady(level, begin, end):
            if last - first < dies / 2 + 1000 * LONGER_S:
                continue
            inside = np.arange(first, last, 5)
            if elsewhere is not None and len(elsewhere) >= last:
                apart = float(np.median(level[inside] - elsewhere[inside]))
                if apart < float(np.median(usual)) - OVERHEAD_DB:
                    continue
            out.append(_buzz(level, first / per_s, last / per_s - END_EARLY_S, per_s))
    return out


def _buzz(level: NDArray[np.float64], begin_s: float, end_s: float, per_s: float) -> Buzz:
    times = np.linspace(begin_s, end_s, max(round((end_s - begin_s) / APART_S), 1) + 1)
    at = np.round(times * per_s).astype(int)
    levels = [float(level[max(a - 15, 0) : a + 25].max(initial=-60.0)) for a in at]
    return Buzz(tuple(times.tolist()), tuple(levels))


def runs_of_singles(times_s: Sequence[float]) -> list[tuple[float, float]]:
    """First and last hit of each run of hits so close that both hands must play them."""
    times = np.sort(np.asarray(times_s, float))
    parts = np.split(times, np.flatnonzero(np.diff(times) > RUN_GAP_S) + 1)
    return [(float(p[0]), float(p[-1])) for p in parts if len(p) >= RUN_HITS]


def rest_of_rolls(
    times_s: NDArray[np.float64], share: NDArray[np.float64], kept: Sequence[int]
) -> list[int]:
    """Which onsets at ``times_s`` with their ``share`` (how likely each is, ``(onsets,)`` both) are hits, in
    order of time: those ``kept``, and less likely ones where a roll of singles goes on in its own step before
    its first hit, after its last one, and in its holes. Rolls often swell from next to nothing."""
    order = sorted(kept, key=lambda i: times_s[i])
    times = times_s[order]
    found = set(kept)
    for run in np.split(times, np.flatnonzero(np.diff(times) > LONGEST_GAP_S) + 1):
        step = float(np.median(np.diff(run))) if len(run) >= RUN_HITS else np.inf
        if step > RUN_GAP_S:
            continue
        for at, way in [(run[0], -step), (run[-1], step), *((a, step) for a in run[:-1])]:
            taken = times_s[sorted(found)]
            for _ in range(MOST_BEYOND):
                next_s = at + way
                if np.abs(taken - next_s).min() < SAME_STEP * step:
                    break
                apart = np.abs(times_s - next_s)
                near = np.flatnonzero((apart < SAME_STEP * step) & (share > LEAST_SHARE))
                if not len(near):
                    break
                best = int(near[np.argmax(share[near] - apart[near] / step)])
                found.add(best)
                at = float(times_s[best])
                taken = np.append(taken, at)
    return sorted(found, key=lambda i: float(times_s[i]))


LONGEST_GAP_S, MOST_BEYOND = 0.19, 12
SAME_STEP, LEAST_SHARE = 0.3, 0.03
"""How much of a step a roll's hit may be early or late, and how unlikely it may be on its own."""


def _level_db(bands: BandEnergy) -> NDArray[np.float64]:
    """Level over time of what is above 1.2 kHz, a frame about a ms."""
    total = bands.energy[:, BRIGHT:].sum(axis=1, dtype=np.float64)
    smooth = scipy.ndimage.uniform_filter1d(total, SMOOTH_FRAMES, mode="nearest")
    out: NDArray[np.float64] = 10 * np.log10(smooth + 1e-12)
    return out


def _time_to_fall(level: NDArray[np.float64], frames: NDArray[np.int64]) -> float:
    """How many ms after a loud hit the sound falls under `UP_DB`, the median."""
    under = [float(np.argmax(level[f + 15 : f + 400] < UP_DB) or 385) for f in frames]
    return float(np.median(np.array(under))) + 15


def _apart_db(
    level: NDArray[np.float64], elsewhere: NDArray[np.float64], frames: NDArray[np.int64]
) -> NDArray[np.float64]:
    """How much louder than the overhead the close mic hears each of the drum's own hits."""
    return np.array(
        [
            float(level[f : f + 40].max() - elsewhere[f : f + 40].max())
            for f in frames
            if f + 40 < len(elsewhere)
        ]
        or [0.0]
    )


def _runs(up: NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.concatenate([[0], up.astype(np.int8), [0]])))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _steady(level: NDArray[np.float64], begin: int, end: int) -> list[tuple[int, int]]:
    """Stretches between two frames in which the sound never dips."""
    here = level[begin:end]
    before = scipy.ndimage.maximum_filter1d(here, 60, origin=29, mode="nearest")
    kept = here > before - LEVEL_DB
    # A dip is no longer than the time between two hits of the roll.
    holes = [
        (a, b) for a, b in _runs(~kept) if b - a > DIP_MS or here[a:b].min() < before[a] - DIP_DB
    ]
    cuts = [0, *[x for hole in holes for x in hole], len(here)]
    return [(begin + a, begin + b) for a, b in zip(cuts[::2], cuts[1::2], strict=True) if b > a]
