"""What each piece leaves in every mic and band, learned from the song itself.

First from hits that stand clear, then from all of them together: the signatures are fitted
jointly with how strongly each piece was struck in each event."""

from collections.abc import Callable, Mapping, Sequence
from threading import Lock
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.alone import (
    MANY,
    Learned,
    Struck,
    bleeds_in,
    on_two_cores,
    rows_that_speak_for,
    who_is_struck,
)
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
    own_rows = {p: rows_that_speak_for(p, m) for p, m in own_mics.items()}
    heard = Heard(scaled, doubt, scale, own_rows, onsets, overheads)
    learned = _remembered(heard)
    found = _with_many(heard, who_is_struck(heard, others or {}, learned), surely or {})
    pieces = [p for p in own_rows if p in found]
    if not pieces or scaled.shape[1] == 0:
        nothing = np.zeros((len(scaled), 0))
        return Signatures([], nothing, scale, own_rows, np.zeros(0, np.int64), {}, nothing)

    rows = [own_rows[p] for p in pieces]
    none = np.zeros(scaled.shape[1], bool)
    theirs = np.stack([(others or {}).get(p, none) for p in pieces])
    for _ in range(3):
        matrix = learned(found).matrix
        bleeds = np.stack([bleeds_in(heard, found, p) for p in pieces])
        struck = _struck(scaled, doubt, matrix, rows, bleeds) & ~theirs
        found = {p: s if s.any() else found[p] for p, s in zip(pieces, struck, strict=True)}
    # A tom's mic of which no moment is surely the tom's holds bleed, however that was explained.
    sure = [p for p, s in zip(pieces, struck, strict=True) if s.any() or piece_family(p) != "tom"]
    if sure and len(sure) < len(pieces):
        struck = struck[[pieces.index(p) for p in sure]]
        pieces, found = sure, {p: found[p] for p in sure}
    matrix, known, spread, held = learned(found)
    with_mic = len(pieces)
    ways_s = _ways_s(heard, pieces, found)
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


def _with_many(heard: Heard, found: Struck, surely: Mapping[str, NDArray[np.bool_]]) -> Struck:
    """What many hits are known of is struck, however much of them another piece could explain."""
    out = dict(found)
    for piece, own in surely.items():
        known = own & heard.onsets.strong()[heard.ear(piece)]
        if piece not in out and known.sum() >= MANY:
            out[piece] = known
    return out


def _ways_s(heard: Heard, pieces: Sequence[str], found: Struck) -> dict[tuple[str, str], float]:
    """How long each piece's hits take to the ear of each other, where that is known."""
    return {
        (q, p): way
        for p in pieces
        for q in pieces
        if q != p
        and (way := heard.onsets.way_s(heard.ear(q), heard.ear(p), np.flatnonzero(found[p])))
    }


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
    known_hits = _known_hits(heard, found)
    pieces = list(known_hits.loud)
    struck = np.stack([found[p] for p in pieces])
    columns = []
    spread = np.ones((len(heard.scaled), len(pieces)))
    held = np.zeros(spread.shape, bool)
    known = np.zeros((len(pieces), len(pieces)), bool)
    for i, piece in enumerate(pieces):
        mine, own = known_hits.loud[piece], heard.own[piece]
        alone = mine[struck[:, mine].sum(axis=0) == 1]
        ratio = heard.scaled / (known_hits.amounts[piece] + EPS)
        column = np.median(ratio[:, mine], axis=1)
        column[own] = np.median(ratio[np.ix_(own, alone if len(alone) >= 4 else mine)], axis=1)
        for other, theirs in heard.own.items():
            if other == piece or not len(theirs):
                continue
            bleed = _bleed(heard, known_hits, piece, other, ratio)
            column[theirs], spread[theirs, i], held[theirs, i] = (
                bleed.column,
                bleed.most,
                bleed.held,
            )
            if other in found:
                known[i, pieces.index(other)] = bleed.is_known
        columns.append(column)
    matrix = np.stack(columns, axis=1)
    foreign = np.setdiff1d(np.arange(len(matrix)), np.concatenate(list(heard.own.values())))
    for i, piece in enumerate(pieces):
        mine = known_hits.loud[piece]
        others = np.where(struck, np.stack([known_hits.amounts[p] for p in pieces]), 0.0)[:, mine]
        others[i] = 0.0
        left = heard.scaled[np.ix_(foreign, mine)] - matrix[foreign] @ others
        own_amount = known_hits.amounts[piece][mine]
        columns[i][foreign] = np.median(np.maximum(left, 0.0) / (own_amount + EPS), axis=1)
        if is_shell(piece) and heard.overheads:
            held[heard.ringing, i] = True
            columns[i][heard.ringing] = np.minimum(
                columns[i][heard.ringing], most_ringing(heard, columns[i])
            )
    matrix = np.stack(columns, axis=1)
    matrix = np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7)
    return Learned(matrix, known, spread, held)


class _KnownHits(NamedTuple):
    """By piece: how much of it each event holds ``(events,)``, which events are its cleanest hits and
    what those typically hold, and how much its faintest band allows ``(events,)``."""

    amounts: dict[str, NDArray[np.float64]]
    loud: dict[str, NDArray[np.int64]]
    typical: dict[str, float]
    faintest: dict[str, NDArray[np.float64]]


def _known_hits(heard: Heard, found: Struck) -> _KnownHits:
    amounts = {p: heard.amount(p) for p in heard.own if len(heard.own[p])}
    loud = {p: _clean_hits(p, amounts, found[p]) for p in heard.own if p in found}
    typical = {p: float(np.median(amounts[p][mine])) for p, mine in loud.items()}
    faintest = {
        p: _faintest(heard.scaled[rows], heard.doubt[rows], loud.get(p))
        for p, rows in heard.own.items()
        if len(rows)
    }
    return _KnownHits(amounts, loud, typical, faintest)


class _Bleed(NamedTuple):
    """What a hit leaves in another piece's mics, by their rows ``(rows,)``: as a rule, how many times as
    much at most, and whether that is held when all is fitted; and whether it was heard on its own."""

    column: NDArray[np.float64]
    most: NDArray[np.float64]
    held: NDArray[np.bool_]
    is_known: bool


def _bleed(
    heard: Heard, known: _KnownHits, piece: str, other: str, ratio: NDArray[np.float64]
) -> _Bleed:
    """What ``piece`` leaves in the mics of ``other``, from all events over its own amount in them
    ``(rows, events)``."""
    mine, theirs = known.loud[piece], heard.own[other]
    is_cymbal = kind_of(piece) == "cymbal" and is_shell(other)
    most, held = np.ones(len(theirs)), np.zeros(len(theirs), bool)
    soft = known.faintest[other][mine] < SOFT
    resting = heard.onsets.resting(heard.ear(other), heard.ear(piece), mine, soft)
    quantile = 0.2 if is_cymbal else 0.4
    if resting.sum() < max(LEAST_RESTING, LEAST_SHARE * len(mine)) and soft.mean() > 0.5:
        resting, quantile = soft, min(quantile, 0.25)
    is_known = bool(resting.sum() >= min(LEAST_RESTING, len(mine)))
    if is_known:
        alone = ratio[np.ix_(theirs, mine[resting])]
        column = np.quantile(alone, quantile, axis=1)
        most = np.clip(np.quantile(alone, 0.9, axis=1) / (column + EPS), 1.0, MOST_SPREAD)
        if is_cymbal:
            column = np.minimum(column, most_of_cymbal(theirs, heard, known.typical[piece]))
            column = as_cymbals_sound(piece, column, heard.scale[theirs], theirs % BANDS)
            held = theirs % BANDS < BRIGHT
    else:
        # Nobody heard it alone: the least of all that was heard there bounds it.
        least = np.quantile(ratio[np.ix_(theirs, mine)], 0.1, axis=1)
        if other in known.loud:
            theirs_loud = np.median(heard.scaled[np.ix_(theirs, known.loud[other])], axis=1)
            share = 10 ** (BLEEDS_DB[kind_of(piece), is_shell(other)] / 10)
            column = np.minimum(share * theirs_loud / known.typical[piece], least)
        else:
            column = UNKNOWN * least
    if not is_shell(other):
        ghosts = np.flatnonzero(
            heard.onsets.leads()[heard.ear(piece)]
            & (known.faintest[other] < SOFT)
            & (known.amounts[piece] < GHOST * known.typical[piece])
        )
        if len(ghosts) >= MANY:
            of_ghosts = np.median(ratio[np.ix_(theirs, ghosts)], axis=1)
            column, held = np.minimum(column, BRIGHTER * of_ghosts), np.ones(len(theirs), bool)
    return _Bleed(column, most, held, is_known)


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

    return np.stack(on_two_cores(surely, range(len(own_rows))))
