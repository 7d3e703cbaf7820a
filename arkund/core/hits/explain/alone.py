"""Which pieces are hit at an event, before their signatures are known."""

from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.heard import Heard
from arkund.core.hits.explain.ownership import (
    rows_of,
    stand,
)
from arkund.core.hits.hear.novelty import BANDS, BRIGHT
from arkund.core.kit.roles import is_shell, piece_family

T = TypeVar("T")

R = TypeVar("R")

Struck = dict[str, NDArray[np.bool_]]
"""By piece the events ``(events,)`` in which it is surely struck."""


class Learned(NamedTuple):
    """What `_matrix` gives."""

    matrix: NDArray[np.float64]
    known: NDArray[np.bool_]
    spread: NDArray[np.float64]
    held: NDArray[np.bool_]


def on_two_cores(work: Callable[[T], R], of: Iterable[T]) -> list[R]:
    """``work`` done on each, two at a time; arithmetic on large arrays leaves the other core free."""
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(work, of))


def rows_that_speak_for(piece: str, mics: list[int]) -> NDArray[np.int64]:
    """Rows that speak for a piece: those of its close mics; of a cymbal's only the bright ones,
    for what its mic hears below 1.2 kHz is the drums."""
    rows = rows_of(mics)
    return rows if is_shell(piece) else rows[rows % BANDS >= BRIGHT]


MANY = 8
"""Hits heard first from which on a piece is taken to be struck."""

LEAST_LED = 0.2
"""Of the strong onsets in a piece's mic, how many must have been heard there first."""

FEWEST, ALONE_DB = 4, 12.0
"""Fewer hits than these must be clearer than this, if the mic heard none of them first."""

NEVER_FIRST, ALWAYS, MANY_ALONE_DB = 0.05, 0.85, 16.0
"""A tom's mic that never hears first, and holds a little more than bleed whenever one other drum
is struck, holds that one's bleed."""

HARDLY_FIRST, NEAR_BLEED_DB, LITTLE_DB = 0.12, 11.8, 9.6
"""What a tom's mic hears first so seldom, and no further above what the known drums leave there, is
theirs; with one hit heard first (by chance), if it is as little as `LITTLE_DB`."""

CLEARLY_DB = 9.0
"""Excess over the bleed of the pieces already known at which a mic holds hits of its own."""


def who_is_struck(
    heard: Heard, others: Mapping[str, NDArray[np.bool_]], learned: Callable[[Struck], Learned]
) -> Struck:
    """Pieces that are struck at all, and the events ``(events,)`` in which they surely are.

    Those whose mics are often the first to hear are struck. Of the others the one that most is
    left over for, once the known ones' bleed is taken off, comes next, until nothing clear is
    left: so a mic that only ever holds what others put into it gets no signature, and a drum
    struck three times gets it from these three hits. What is known to be ``others``' speaks for
    none, even if a mic hears it first: a kick of slow attack is noticed sooner in the snare's.
    """
    led = {
        p: first & ~others[p] if p in others else first
        for p, first in zip(heard.own, heard.onsets.leads(), strict=True)
    }
    found = {
        p: led[p]
        for p, rows in heard.own.items()
        if len(rows)
        and led[p].sum() >= max(MANY, LEAST_LED * np.sum(heard.onsets.strong()[heard.ear(p)]))
    }
    rest = [p for p, rows in heard.own.items() if len(rows) and p not in found]
    while rest:
        unexplained = on_two_cores(partial(_unexplained, heard, found, learned), rest)
        left = {
            p: np.where(others[p], 0.0, db) if p in others else db
            for p, db in zip(rest, unexplained, strict=True)
        }
        score = {
            p: float(np.sum(np.maximum(left[p] - CLEARLY_DB, 0)))
            * (1 + _heard_first(heard, p, led[p]))
            for p in rest
        }
        best = max(rest, key=lambda p: score[p])
        mine = left[best] > CLEARLY_DB
        if not mine.any():
            break
        first = int((mine & led[best]).sum())
        faint = mine.sum() < FEWEST and not first and left[best].max() < ALONE_DB
        follows = first <= NEVER_FIRST * mine.sum() and any(
            found[q][mine].mean() > ALWAYS for q in found if is_shell(q)
        )
        is_tom = piece_family(best) == "tom" and not heard.onsets.far
        usual = np.median(left[best][mine])
        near_bleed = usual < MANY_ALONE_DB
        hardly_first = first <= HARDLY_FIRST * mine.sum() or (first <= 1 and usual < LITTLE_DB)
        never = hardly_first and usual < NEAR_BLEED_DB
        if faint or ((never or (follows and near_bleed)) and mine.sum() >= FEWEST and is_tom):
            rest.remove(best)
            continue
        found[best] = mine
        rest.remove(best)
    return found


def _heard_first(heard: Heard, piece: str, led: NDArray[np.bool_]) -> int:
    """How many hits speak for a piece by when they are heard. A mic that stands far from its drum
    hears none first, so that all that are strong in it speak for it."""
    ear = heard.ear(piece)
    return int((heard.onsets.strong()[ear] if ear in heard.onsets.far else led).sum())


def bleeds_in(heard: Heard, found: Struck, piece: str) -> NDArray[np.bool_]:
    """``(events,)``: where a piece's mic hears something begin just when another's bleed does."""
    ear, out = heard.ear(piece), np.zeros(heard.scaled.shape[1], bool)
    for other, struck in found.items():
        if other != piece:
            way_s = heard.onsets.way_s(ear, heard.ear(other), np.flatnonzero(struck))
            out |= heard.onsets.timely(ear, heard.ear(other), way_s)
    return out


def _unexplained(
    heard: Heard, found: Struck, learned: Callable[[Struck], Learned], piece: str
) -> NDArray[np.float64]:
    """`_left_over`, and nothing where bleed begins just then."""
    left = _left_over(heard, found, learned, piece)
    return np.where(bleeds_in(heard, found, piece), 0.0, left)


def _left_over(
    heard: Heard, found: Struck, learned: Callable[[Struck], Learned], piece: str
) -> NDArray[np.float64]:
    """By how many dB each event exceeds, in this piece's own mics, the bleed of the known ones."""
    own = heard.own[piece]
    if piece_family(piece) == "snare":
        # A brush has no lows, and always falls with a cymbal, of which no snare's mic is full.
        own = own[own % BANDS >= BRIGHT - 1]
        found = {p: struck for p, struck in found.items() if is_shell(p)}
    level = np.median(heard.scaled[own], axis=0)
    loud = level > 0.02 * np.sort(level)[-4:].mean()
    if not found:
        return np.where(loud, 60.0, 0.0)
    matrix = learned(found).matrix
    column = np.full((len(heard.scaled), 1), 1e-7)
    column[own] = 1.0
    rows = [heard.own[p] for p in heard.own if p in found]
    it = stand(heard.scaled, heard.doubt, np.hstack([matrix, column]), [*rows, own], len(rows))
    return np.where(loud, it.excess_db, 0.0)
