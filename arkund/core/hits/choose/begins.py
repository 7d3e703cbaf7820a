"""Where a kick's hits begin: all of them alike.

A beater touches the head some milliseconds before the drum speaks, so one by one the soft hits are found at the
touch and the hard ones at the speaking, or all of them at that. Laid over each other, the hits that nothing
covers show where the sound begins, and how far each lies from the others. (Snares and toms begin at once, and
what other drums leave in their mics would be taken for a beginning.)
"""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit, hit_id
from arkund.core.kit.roles import is_shell, piece_family

STEP_S, BACK, AHEAD = 0.00025, 40, 32
"""Levels are looked at in steps; so many of them before a hit and after it."""

REACH = 14
"""Hits are moved over each other by no more steps than this."""

LEAST_S, MOST_S = 0.0006, 0.0046
"""A time that is off by less is right; nothing begins farther ahead."""

QUIET_STEPS, QUIET_DB = 16, -28.0
"""A hit is uncovered where it is so quiet, against its loudest, at the beginning of what is looked at."""

BEFORE_S, AFTER_S = 0.020, 0.006
"""And where no other shell is hit so long before it or so soon after."""

FEWEST, ROUNDS = 5, 3
FOOT_DB, OVER_DB = -26.0, 6.0
"""The sound begins where it comes within so much of its loudest, and so far above what was there."""

LOWEST_DB, DRAWN_BACK = -40.0, 0.05
"""Levels below are alike; and how much of (1 dB)² a step away must gain."""

ASTRAY_S = 0.002
"""A covered hit that would be moved so much more or less than the others goes with them."""


def at_their_beginning(
    hits: Sequence[Hit], sound: NDArray[np.float32], piece: str, rate: float
) -> list[Hit]:
    """The hits, those of a kick ``piece`` at the time at which its ``sound`` ``(frames,)`` begins there."""
    own = [h for h in hits if h.piece == piece]
    if piece_family(piece) != "kick" or len(own) < FEWEST:
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


def _late_s(
    sound: NDArray[np.float32],
    times: NDArray[np.float64],
    others: NDArray[np.float64],
    rate: float,
) -> NDArray[np.float64]:
    """By how much each time is to be moved, in s: 0 or less."""
    levels = _levels(sound, times, rate)
    quiet = np.median(levels[:, :QUIET_STEPS], axis=1) < QUIET_DB
    alone = np.array([not np.any((others > t - BEFORE_S) & (others < t + AFTER_S)) for t in times])
    bare = quiet & alone if np.count_nonzero(quiet & alone) >= FEWEST else quiet
    if np.count_nonzero(bare) < FEWEST:
        return np.zeros(len(times))
    shifts, shape = _laid_over(levels, bare)
    foot = np.flatnonzero(shape > max(FOOT_DB, np.median(shape[:QUIET_STEPS]) + OVER_DB))
    if not len(foot):
        return np.zeros(len(times))
    late = (shifts + int(foot[0]) - BACK) * STEP_S
    usual = float(np.median(late[bare]))
    late = np.where(~bare & (np.abs(late - usual) > ASTRAY_S), usual, late)
    return np.where((late <= -LEAST_S) & (late >= -MOST_S), late, 0.0)


def _levels(
    sound: NDArray[np.float32], times: NDArray[np.float64], rate: float
) -> NDArray[np.float64]:
    """Levels around each time in dB against the loudest there, ``(hits, BACK + AHEAD)``."""
    edges = (times[:, None] + np.arange(-BACK, AHEAD + 1) * STEP_S) * rate
    edges = np.clip(np.round(edges), 0, len(sound)).astype(np.int64)
    out = np.empty((len(times), BACK + AHEAD))
    for row, at in zip(out, edges, strict=True):
        power = np.concatenate([[0.0], np.cumsum(sound[at[0] : at[-1]].astype(np.float64) ** 2)])
        row[:] = np.diff(power[at - at[0]]) / np.maximum(np.diff(at), 1)
    out = 10 * np.log10(out + 1e-12)
    top = out[:, BACK - REACH :].max(axis=1, keepdims=True)
    level: NDArray[np.float64] = np.maximum(out - top, LOWEST_DB)
    return level


def _laid_over(
    levels: NDArray[np.float64], bare: NDArray[np.bool_]
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """By how many steps each hit is to be moved to lie over the ``bare`` ones, and these ones' median."""
    width = levels.shape[1]
    shape = np.median(levels[bare], axis=0)
    ways = np.arange(-REACH, REACH + 1)
    shifts = np.zeros(len(levels), np.int64)
    for _ in range(ROUNDS):
        middle = shape[REACH : width - REACH]
        apart = np.array(
            [
                ((levels[:, REACH + way : width - REACH + way] - middle) ** 2).mean(axis=1)
                + DRAWN_BACK * abs(way)
                for way in ways
            ]
        )
        shifts = ways[apart.argmin(axis=0)]
        laid = [np.roll(row, -way) for row, way in zip(levels[bare], shifts[bare], strict=True)]
        shape = np.median(laid, axis=0)
    return shifts, shape
