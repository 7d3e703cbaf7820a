"""What each piece leaves in every mic and band, learned from the song itself.

First from hits that stand clear, then from all of them together: the signatures are fitted
jointly with how strongly each piece was struck in each event.
"""

from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from threading import Lock
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.far_cymbal import CYMBAL, unexplained_cymbal, with_leaks
from arkund.core.hits.explain.heard import Heard
from arkund.core.hits.explain.joint_fit import fitted_jointly
from arkund.core.hits.explain.known import (
    BLEEDS_DB,
    as_cymbals_sound,
    kind_of,
    most_of_cymbal,
    most_ringing,
)
from arkund.core.hits.explain.ownership import (
    COLOUR,
    EPS,
    Events,
    Signatures,
    row_scale,
    rows_of,
    stand,
)
from arkund.core.hits.hear.leading import Onsets
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


def _on_two_cores(work: Callable[[T], R], of: Iterable[T]) -> list[R]:
    """``work`` done on each, two at a time; arithmetic on large arrays leaves the other core free."""
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(work, of))


def learn_signatures(
    events: Events,
    own_mics: dict[str, list[int]],
    overheads: list[int],
    onsets: Onsets,
    others: Mapping[str, NDArray[np.bool_]] | None = None,
    surely: Mapping[str, NDArray[np.bool_]] | None = None,
) -> Signatures:
    """Signatures of every piece with a close mic, then of cymbals that only overheads hear.

    ``own_mics`` maps a piece to the positions of its close mics, ``onsets`` are the events as
    each piece's nearest mic hears them begin, in the same order; ``others`` are, of some pieces, the
    events ``(events,)`` that are known to be another's, and ``surely`` those that are known to be
    theirs. A piece whose mic holds nothing but bleed gets no signature.
    """
    scale = row_scale(events.started)
    scaled, doubt = events.started / scale[:, None], events.doubt / scale[:, None]
    own_rows = {p: _own_rows(p, m) for p, m in own_mics.items()}
    heard = Heard(scaled, doubt, scale, own_rows, onsets, overheads)
    learned = _remembered(heard)
    found = _who_is_struck(heard, others or {}, learned)
    # What many hits are known of is struck, however much of them another piece could explain.
    for piece, own in (surely or {}).items():
        known = own & heard.onsets.strong()[heard.ear(piece)]
        if piece not in found and known.sum() >= MANY:
            found[piece] = known
    pieces = [p for p in own_rows if p in found]
    if not pieces or scaled.shape[1] == 0:
        nothing = np.zeros((len(scaled), 0))
        return Signatures([], nothing, scale, own_rows, np.zeros(0, np.int64), {}, nothing)

    rows = [own_rows[p] for p in pieces]
    none = np.zeros(scaled.shape[1], bool)
    theirs = np.stack([(others or {}).get(p, none) for p in pieces])
    for _ in range(3):
        matrix = learned(found).matrix
        bleeds = np.stack([_bleeds_in(heard, found, p) for p in pieces])
        struck = _struck(scaled, doubt, matrix, rows, bleeds) & ~theirs
        found = {p: s if s.any() else found[p] for p, s in zip(pieces, struck, strict=True)}
    # A tom's mic of which no moment is surely the tom's holds bleed, however that was explained.
    sure = [p for p, s in zip(pieces, struck, strict=True) if s.any() or piece_family(p) != "tom"]
    if sure and len(sure) < len(pieces):
        struck = struck[[pieces.index(p) for p in sure]]
        pieces, found = sure, {p: found[p] for p in sure}
    matrix, known, spread, held = learned(found)
    with_mic = len(pieces)
    ways_s = {
        (q, p): way
        for p in pieces
        for q in pieces
        if q != p and (way := onsets.way_s(heard.ear(q), heard.ear(p), np.flatnonzero(found[p])))
    }
    if overheads and not {"crash_1", "ride"} <= set(own_mics):
        rows = [own_rows[p] for p in pieces]
        ringing = np.arange(len(scaled) - 2 * len(overheads), len(scaled))
        cymbal = unexplained_cymbal(scaled, matrix, rows, ringing, rows_of(overheads))
        if cymbal is not None:
            drums = [is_shell(p) for p in pieces]
            cymbal = with_leaks(heard, matrix, rows, drums, cymbal, ringing)
            pieces, matrix = [*pieces, CYMBAL], np.column_stack([matrix, cymbal])
            spread = np.column_stack([spread, np.ones(len(spread))])
            own_rows[CYMBAL] = ringing
    rows = [own_rows[p] for p in pieces]
    matrix = fitted_jointly(scaled, doubt, matrix, rows, struck, known, held)
    unknown = np.ones(len(pieces) - with_mic, np.int64)
    hits = np.concatenate([struck.sum(axis=1), 10 * unknown])
    return Signatures(pieces, matrix, scale, own_rows, hits, ways_s, spread)


def _own_rows(piece: str, mics: list[int]) -> NDArray[np.int64]:
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


def _who_is_struck(
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
        unexplained = _on_two_cores(partial(_unexplained, heard, found, learned), rest)
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


def _bleeds_in(heard: Heard, found: Struck, piece: str) -> NDArray[np.bool_]:
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
    return np.where(_bleeds_in(heard, found, piece), 0.0, left)


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


LEAST_RESTING, LEAST_SHARE = 3, 0.2
"""Hits, and share of all, at which another must rest for what is left there to be known."""

MOST_SPREAD = 3.0
"""How many times more than usual a hit leaves at most."""

SOFT = 0.15
"""Of its loud hits, what a drum that rests may seem to hold."""

GHOST = 0.1
"""Of its loud hits' energy, what a drum's ghosts have at most."""

BRIGHTER = 1.6
"""How much more of its energy a loud hit than a soft one puts into the bright bands."""

UNKNOWN = 0.03
"""The same where nothing is known of the other's hits, as a share of the least that is heard."""


def _remembered(heard: Heard) -> Callable[[Struck], Learned]:
    """`_matrix` of the same hits is asked for again and again, by both threads; it is worked out
    once."""
    kept: dict[tuple[tuple[str, bytes], ...], Learned] = {}
    turn = Lock()

    def learned(found: Struck) -> Learned:
        key = tuple((p, found[p].tobytes()) for p in heard.own if p in found)
        with turn:
            if key not in kept:
                kept[key] = _matrix(heard, found)
        return kept[key]

    return learned


def _matrix(heard: Heard, found: Struck) -> Learned:
    """Signatures ``(rows, pieces)`` from the events in which each piece was struck, whose leaks
    into whose mics are known, ``(pieces, pieces)``, and how many times more than usual a hit
    may leave in each row, ``(rows, pieces)``.

    What a piece leaves in another's own mics is learned only where that other rests
    (`Onsets.resting`); from mics close to none (overheads) what the others account for is taken
    off.
    """
    pieces = [p for p in heard.own if p in found]
    struck = np.stack([found[p] for p in pieces])
    amounts = {p: heard.amount(p) for p in heard.own if len(heard.own[p])}
    loud = {p: _clean_hits(p, amounts, found[p]) for p in pieces}
    typical = {p: float(np.median(amounts[p][loud[p]])) for p in pieces}
    faintest = {
        p: _faintest(heard.scaled[rows], heard.doubt[rows], loud.get(p))
        for p, rows in heard.own.items()
        if len(rows)
    }
    columns = []
    spread = np.ones((len(heard.scaled), len(pieces)))
    held = np.zeros(spread.shape, bool)
    known = np.zeros((len(pieces), len(pieces)), bool)
    for i, piece in enumerate(pieces):
        mine, amount, own = loud[piece], amounts[piece], heard.own[piece]
        alone = mine[struck[:, mine].sum(axis=0) == 1]
        ratio = heard.scaled / (amount + EPS)
        column = np.median(ratio[:, mine], axis=1)
        column[own] = np.median(ratio[np.ix_(own, alone if len(alone) >= 4 else mine)], axis=1)
        for other, theirs in heard.own.items():
            if other == piece or not len(theirs):
                continue
            soft = faintest[other][mine] < SOFT
            resting = heard.onsets.resting(heard.ear(other), heard.ear(piece), mine, soft)
            quantile = 0.2 if kind_of(piece) == "cymbal" and is_shell(other) else 0.4
            if resting.sum() < max(LEAST_RESTING, LEAST_SHARE * len(mine)) and soft.mean() > 0.5:
                resting, quantile = soft, min(quantile, 0.25)
            if resting.sum() >= min(LEAST_RESTING, len(mine)):
                column[theirs] = np.quantile(ratio[np.ix_(theirs, mine[resting])], quantile, axis=1)
                most = np.quantile(ratio[np.ix_(theirs, mine[resting])], 0.9, axis=1)
                spread[theirs, i] = np.clip(most / (column[theirs] + EPS), 1.0, MOST_SPREAD)
                if kind_of(piece) == "cymbal" and is_shell(other):
                    column[theirs] = np.minimum(
                        column[theirs], most_of_cymbal(theirs, heard, typical[piece])
                    )
                    column[theirs] = as_cymbals_sound(
                        piece, column[theirs], heard.scale[theirs], theirs % BANDS
                    )
                    held[theirs[theirs % BANDS < BRIGHT], i] = True
                if other in found:
                    known[i, pieces.index(other)] = True
            elif other in found:
                theirs_loud = np.median(heard.scaled[np.ix_(theirs, loud[other])], axis=1)
                share = 10 ** (BLEEDS_DB[kind_of(piece), is_shell(other)] / 10)
                column[theirs] = np.minimum(
                    share * theirs_loud / typical[piece],
                    np.quantile(ratio[np.ix_(theirs, mine)], 0.1, axis=1),
                )
            else:
                column[theirs] = UNKNOWN * np.quantile(ratio[np.ix_(theirs, mine)], 0.1, axis=1)
            if not is_shell(other):
                ghosts = np.flatnonzero(
                    heard.onsets.leads()[heard.ear(piece)]
                    & (faintest[other] < SOFT)
                    & (amount < GHOST * typical[piece])
                )
                if len(ghosts) >= MANY:
                    least = np.median(ratio[np.ix_(theirs, ghosts)], axis=1)
                    column[theirs] = np.minimum(column[theirs], BRIGHTER * least)
                    held[theirs, i] = True
        columns.append(column)
    matrix = np.stack(columns, axis=1)
    foreign = np.setdiff1d(np.arange(len(matrix)), np.concatenate(list(heard.own.values())))
    for i, piece in enumerate(pieces):
        others = np.where(struck, np.stack([amounts[p] for p in pieces]), 0.0)[:, loud[piece]]
        others[i] = 0.0
        left = heard.scaled[np.ix_(foreign, loud[piece])] - matrix[foreign] @ others
        own_amount = amounts[piece][loud[piece]]
        columns[i][foreign] = np.median(np.maximum(left, 0.0) / (own_amount + EPS), axis=1)
        if is_shell(piece) and heard.overheads:
            held[heard.ringing, i] = True
            columns[i][heard.ringing] = np.minimum(
                columns[i][heard.ringing], most_ringing(heard, columns[i])
            )
    matrix = np.stack(columns, axis=1)
    matrix = np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7)
    return Learned(matrix, known, spread, held)


def _faintest(
    own: NDArray[np.float64], doubt: NDArray[np.float64], loud: NDArray[np.int64] | None
) -> NDArray[np.float64]:
    """Level ``(events,)`` against a drum's louder hits that its faintest band allows, of those
    that ringing leaves open, from the rows of its mics; against its mics' loudest events where no
    hit is known."""
    usual = np.median(own[:, loud], axis=1) if loud is not None else np.sort(own)[:, -4:].mean(1)
    amounts = own / (usual[:, None] + EPS)
    is_open = own > doubt
    return np.minimum(
        np.median(amounts, axis=0), COLOUR * np.where(is_open, amounts, np.inf).min(axis=0)
    )


def _clean_hits(
    piece: str, amounts: dict[str, NDArray[np.float64]], struck: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """Which events hold a piece's cleanest hits: the half, but six at least, in which its own
    mics stand out most from all others, of those within 15 dB of its loudest few."""
    mine = np.flatnonzero(struck)
    own = amounts[piece][mine]
    mine = mine[own > 0.03 * np.sort(own)[-4:].mean()]
    others = [a[mine] for p, a in amounts.items() if p != piece]
    if not others:
        return mine
    stands_out = amounts[piece][mine] / (np.max(others, axis=0) + EPS)
    return np.sort(mine[np.argsort(-stands_out)[: max(6, len(mine) // 2)]])


FAINT = 5.0
"""By how much a piece's faintest band may fall short of its median in a hit that is sure."""


def _struck(
    scaled: NDArray[np.float64],
    doubt: NDArray[np.float64],
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    bleeds: NDArray[np.bool_],
) -> NDArray[np.bool_]:
    """Which pieces were surely struck in which events: loud enough, well above bleed (more so
    where something ``bleeds`` just then, ``(pieces, events)``), and in all bands that ringing
    leaves open about as much as the signature says."""

    def surely(i: int) -> NDArray[np.bool_]:
        it = stand(scaled, doubt, matrix, own_rows, i)
        loud = np.sort(it.level_db)[-4:].mean()
        amounts = scaled[it.rows] / matrix[it.rows, i][:, None]
        is_open = scaled[it.rows] > doubt[it.rows]
        faintest = np.where(is_open, amounts, np.inf).min(axis=0)
        like_it = FAINT * faintest > np.median(amounts, axis=0)
        clear: NDArray[np.bool_] = it.excess_db > np.where(bleeds[i], 12, 6)
        return clear & (it.level_db > loud - 18) & like_it

    return np.stack(_on_two_cores(surely, range(len(own_rows))))
