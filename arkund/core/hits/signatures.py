"""What each piece leaves in every mic and band, learned from the song itself.

First from strokes that stand clear, then from all of them together: the signatures are fitted
jointly with how strongly each piece was struck in each event.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.leading import Onsets
from arkund.core.hits.novelty import BANDS, BRIGHT
from arkund.core.hits.ownership import (
    COLOUR,
    EPS,
    NOTHING,
    Events,
    Signatures,
    explain,
    row_scale,
    rows_of,
    stand,
    telling_rows,
)
from arkund.core.kit.roles import is_shell, piece_family


@dataclass(frozen=True)
class _Heard:
    """All events: ``scaled`` and ``doubt`` ``(rows, events)``, the rows of each piece's ``own``
    mics, and how each piece's nearest mic hears them begin (``onsets``, a row a piece)."""

    scaled: NDArray[np.float64]
    doubt: NDArray[np.float64]
    own: dict[str, NDArray[np.int64]]
    onsets: Onsets

    def ear(self, piece: str) -> int:
        return list(self.own).index(piece)

    def amount(self, piece: str) -> NDArray[np.float64]:
        """How loud each event is in a piece's own mics, ``(events,)``."""
        mean: NDArray[np.float64] = np.sqrt(self.scaled[self.own[piece]]).mean(axis=0)
        return mean**2


def learn_signatures(
    events: Events, own_mics: dict[str, list[int]], overheads: list[int], onsets: Onsets
) -> Signatures:
    """Signatures of every piece with a close mic, then of cymbals that only overheads hear.

    ``own_mics`` maps a piece to the positions of its close mics, ``onsets`` are the events as
    each piece's nearest mic hears them begin, in the same order. A piece whose mic holds nothing
    but bleed gets no signature.
    """
    scale = row_scale(events.started)
    scaled, doubt = events.started / scale[:, None], events.doubt / scale[:, None]
    own_rows = {p: _own_rows(p, m) for p, m in own_mics.items()}
    heard = _Heard(scaled, doubt, own_rows, onsets)
    found = _who_is_struck(heard)
    pieces = [p for p in own_rows if p in found]
    if not pieces or scaled.shape[1] == 0:
        nothing = np.zeros((len(scaled), 0))
        return Signatures([], nothing, scale, own_rows, np.zeros(0, np.int64), {}, nothing)

    rows = [own_rows[p] for p in pieces]
    for _ in range(3):
        matrix, known, _ = _matrix(heard, found)
        bleeds = np.stack([_bleeds_in(heard, found, p) for p in pieces])
        struck = _struck(scaled, doubt, matrix, rows, bleeds)
        found = {p: s if s.any() else found[p] for p, s in zip(pieces, struck, strict=True)}
    matrix, known, spread = _matrix(heard, found)
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
        cymbal = _unexplained_cymbal(scaled, matrix, rows, ringing, rows_of(overheads))
        if cymbal is not None:
            drums = [is_shell(p) for p in pieces]
            cymbal = _with_leaks(scaled, matrix, rows, drums, cymbal, ringing)
            pieces, matrix = [*pieces, CYMBAL], np.column_stack([matrix, cymbal])
            spread = np.column_stack([spread, np.ones(len(spread))])
            own_rows[CYMBAL] = ringing
    rows = [own_rows[p] for p in pieces]
    matrix = _fit_jointly(scaled, doubt, matrix, rows, struck, known)
    unknown = np.ones(len(pieces) - with_mic, np.int64)
    strokes = np.concatenate([struck.sum(axis=1), 10 * unknown])
    return Signatures(pieces, matrix, scale, own_rows, strokes, ways_s, spread)


def _own_rows(piece: str, mics: list[int]) -> NDArray[np.int64]:
    """Rows that speak for a piece: those of its close mics; of a cymbal's only the bright ones,
    for what its mic hears below 1.2 kHz is the drums."""
    rows = rows_of(mics)
    return rows if is_shell(piece) else rows[rows % BANDS >= BRIGHT]


CYMBAL = "cymbal"
"""What rings in the overheads and no piece with a mic accounts for, until it is told apart."""

MANY = 8
"""Strokes heard first from which on a piece is taken to be struck."""

LEAST_LED = 0.2
"""Of the strong onsets in a piece's mic, how many must have been heard there first."""

FEWEST, ALONE_DB = 4, 12.0
"""Fewer strokes than these must be clearer than this, if the mic heard none of them first."""

NEVER_FIRST, ALWAYS, MANY_ALONE_DB = 0.05, 0.85, 16.0
"""A tom's mic that never hears first, and holds a little more than bleed whenever one other drum
is struck, holds that one's bleed."""

CLEARLY_DB = 9.0
"""Excess over the bleed of the pieces already known at which a mic holds strokes of its own."""


def _who_is_struck(heard: _Heard) -> dict[str, NDArray[np.bool_]]:
    """Pieces that are struck at all, and the events ``(events,)`` in which they surely are.

    Those whose mics are often the first to hear are struck. Of the others the one that most is
    left over for, once the known ones' bleed is taken off, comes next, until nothing clear is
    left: so a mic that only ever holds what others put into it gets no signature, and a drum
    struck three times gets it from these three strokes.
    """
    led = dict(zip(heard.own, heard.onsets.leads(), strict=True))
    found = {
        p: led[p]
        for p, rows in heard.own.items()
        if len(rows)
        and led[p].sum() >= max(MANY, LEAST_LED * np.sum(heard.onsets.strong()[heard.ear(p)]))
    }
    rest = [p for p, rows in heard.own.items() if len(rows) and p not in found]
    while rest:
        left = {p: np.where(_bleeds_in(heard, found, p), 0.0, _left_over(heard, found, p))
                for p in rest}  # fmt: skip
        score = {
            p: float(np.sum(np.maximum(left[p] - CLEARLY_DB, 0))) * (1 + led[p].sum()) for p in rest
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
        near_bleed = np.median(left[best][mine]) < MANY_ALONE_DB
        if faint or (follows and near_bleed and mine.sum() >= FEWEST and is_tom):
            rest.remove(best)
            continue
        found[best] = mine
        rest.remove(best)
    return found


def _bleeds_in(heard: _Heard, found: dict[str, NDArray[np.bool_]], piece: str) -> NDArray[np.bool_]:
    """``(events,)``: where a piece's mic hears something begin just when another's bleed does."""
    ear, out = heard.ear(piece), np.zeros(heard.scaled.shape[1], bool)
    for other, struck in found.items():
        if other != piece:
            way_s = heard.onsets.way_s(ear, heard.ear(other), np.flatnonzero(struck))
            out |= heard.onsets.timely(ear, heard.ear(other), way_s)
    return out


def _left_over(
    heard: _Heard, found: dict[str, NDArray[np.bool_]], piece: str
) -> NDArray[np.float64]:
    """By how many dB each event exceeds, in this piece's own mics, the bleed of the known ones."""
    own = heard.own[piece]
    level = np.median(heard.scaled[own], axis=0)
    loud = level > 0.02 * np.sort(level)[-4:].mean()
    if not found:
        return np.where(loud, 60.0, 0.0)
    matrix, _, _ = _matrix(heard, found)
    column = np.full((len(heard.scaled), 1), 1e-7)
    column[own] = 1.0
    rows = [heard.own[p] for p in heard.own if p in found]
    it = stand(heard.scaled, heard.doubt, np.hstack([matrix, column]), [*rows, own], len(rows))
    return np.where(loud, it.excess_db, 0.0)


LEAST_RESTING, LEAST_SHARE = 3, 0.2
"""Strokes, and share of all, at which another must rest for what is left there to be known."""

MOST_SPREAD = 3.0
"""How many times more than usual a stroke leaves at most."""

SOFT = 0.15
"""Of its loud strokes, what a drum that rests may seem to hold."""

BLEEDS_DB = {
    ("kick", True): -15.0, ("snare", True): -13.0, ("tom", True): -13.0, ("cymbal", True): -18.0,
    ("kick", False): -16.0, ("snare", False): -9.0, ("tom", False): -13.0, ("cymbal", False): -9.0,
}  # fmt: skip
"""What a piece is taken to leave in another's mics, against that other's own loud strokes, where
the two always fall together: nothing then tells which of them a level belongs to, but a cymbal a
metre away is not as loud in a drum's mic as the drum."""

CYMBAL_LOW_DB = -14.0
"""The most that a cymbal leaves below `BRIGHT` in a drum's mic, against the drum's loudest."""

UNKNOWN = 0.03
"""The same where nothing is known of the other's strokes, as a share of the least that is heard."""


def _matrix(
    heard: _Heard, found: dict[str, NDArray[np.bool_]]
) -> tuple[NDArray[np.float64], NDArray[np.bool_], NDArray[np.float64]]:
    """Signatures ``(rows, pieces)`` from the events in which each piece was struck, whose leaks
    into whose mics are known, ``(pieces, pieces)``, and how many times more than usual a stroke
    may leave in each row, ``(rows, pieces)``.

    What a piece leaves in another's own mics is learned only where that other rests
    (`Onsets.resting`); from mics close to none (overheads) what the others account for is taken
    off.
    """
    pieces = [p for p in heard.own if p in found]
    struck = np.stack([found[p] for p in pieces])
    amounts = {p: heard.amount(p) for p in heard.own if len(heard.own[p])}
    loud = {p: _clean_strokes(p, amounts, found[p]) for p in pieces}
    typical = {p: float(np.median(amounts[p][loud[p]])) for p in pieces}
    faintest = {
        p: _faintest(heard.scaled[rows], heard.doubt[rows], loud.get(p))
        for p, rows in heard.own.items()
        if len(rows)
    }
    columns = []
    spread = np.ones((len(heard.scaled), len(pieces)))
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
            quantile = 0.4
            if resting.sum() < max(LEAST_RESTING, LEAST_SHARE * len(mine)) and soft.mean() > 0.5:
                resting, quantile = soft, 0.25
            if resting.sum() >= min(LEAST_RESTING, len(mine)):
                column[theirs] = np.quantile(ratio[np.ix_(theirs, mine[resting])], quantile, axis=1)
                most = np.quantile(ratio[np.ix_(theirs, mine[resting])], 0.9, axis=1)
                spread[theirs, i] = np.clip(most / (column[theirs] + EPS), 1.0, MOST_SPREAD)
                if _kind(piece) == "cymbal" and is_shell(other):
                    column[theirs] = np.minimum(
                        column[theirs], _most_of_cymbal(theirs, heard, typical[piece])
                    )
                if other in found:
                    known[i, pieces.index(other)] = True
            elif other in found:
                theirs_loud = np.median(heard.scaled[np.ix_(theirs, loud[other])], axis=1)
                share = 10 ** (BLEEDS_DB[_kind(piece), is_shell(other)] / 10)
                column[theirs] = np.minimum(
                    share * theirs_loud / typical[piece],
                    np.quantile(ratio[np.ix_(theirs, mine)], 0.1, axis=1),
                )
            else:
                column[theirs] = UNKNOWN * np.quantile(ratio[np.ix_(theirs, mine)], 0.1, axis=1)
        columns.append(column)
    matrix = np.stack(columns, axis=1)
    foreign = np.setdiff1d(np.arange(len(matrix)), np.concatenate(list(heard.own.values())))
    for i, piece in enumerate(pieces):
        others = np.where(struck, np.stack([amounts[p] for p in pieces]), 0.0)[:, loud[piece]]
        others[i] = 0.0
        left = heard.scaled[np.ix_(foreign, loud[piece])] - matrix[foreign] @ others
        own_amount = amounts[piece][loud[piece]]
        columns[i][foreign] = np.median(np.maximum(left, 0.0) / (own_amount + EPS), axis=1)
    matrix = np.stack(columns, axis=1)
    return np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7), known, spread


def _faintest(
    own: NDArray[np.float64], doubt: NDArray[np.float64], loud: NDArray[np.int64] | None
) -> NDArray[np.float64]:
    """Level ``(events,)`` against a drum's louder strokes that its faintest band allows, of those
    that ringing leaves open, from the rows of its mics; against its mics' loudest events where no
    stroke is known."""
    usual = np.median(own[:, loud], axis=1) if loud is not None else np.sort(own)[:, -4:].mean(1)
    amounts = own / (usual[:, None] + EPS)
    is_open = own > doubt
    return np.minimum(
        np.median(amounts, axis=0), COLOUR * np.where(is_open, amounts, np.inf).min(axis=0)
    )


def _most_of_cymbal(theirs: NDArray[np.int64], heard: _Heard, amount: float) -> NDArray[np.float64]:
    """The most that a cymbal leaves in each row of a drum's mics: below 1.2 kHz far less than the
    drum's loudest strokes, whatever always falls together with it."""
    loudest = np.sort(heard.scaled[theirs], axis=1)[:, -4:].mean(axis=1)
    low = theirs % BANDS < BRIGHT
    return np.where(low, 10 ** (CYMBAL_LOW_DB / 10) * loudest / amount, np.inf)


def _kind(piece: str) -> str:
    return piece_family(piece) if is_shell(piece) else "cymbal"


def _clean_strokes(
    piece: str, amounts: dict[str, NDArray[np.float64]], struck: NDArray[np.bool_]
) -> NDArray[np.int64]:
    """Which events hold a piece's cleanest strokes: the half, but six at least, in which its own
    mics stand out most from all others, of those within 15 dB of its loudest few."""
    mine = np.flatnonzero(struck)
    own = amounts[piece][mine]
    mine = mine[own > 0.03 * np.sort(own)[-4:].mean()]
    others = [a[mine] for p, a in amounts.items() if p != piece]
    if not others:
        return mine
    stands_out = amounts[piece][mine] / (np.max(others, axis=0) + EPS)
    return np.sort(mine[np.argsort(-stands_out)[: max(6, len(mine) // 2)]])


STRUCK_DB = -10.0
"""Level in its own mics, against its loud strokes, from which a piece counts as surely struck."""


def own_levels(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]]
) -> NDArray[np.float64]:
    """Amount ``(pieces, events)`` of each piece by its own mics alone, 1 for its loud strokes.

    Bleed adds to a band and never takes from it, so a stroke is no louder than its faintest band
    allows: what fills only some bands of a drum's mic is another piece.
    """
    levels = []
    for i, own in enumerate(own_rows):
        telling = telling_rows(matrix[:, i], own)
        amounts = scaled[telling] / matrix[telling, i][:, None]
        level = np.minimum(np.median(amounts, axis=0), COLOUR * amounts.min(axis=0))
        levels.append(level / (np.sort(level)[-4:].mean() + EPS))
    return np.stack(levels)


FAINT = 5.0
"""By how much a piece's faintest band may fall short of its median in a stroke that is sure."""


def _struck(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]], bleeds: NDArray[np.bool_],
) -> NDArray[np.bool_]:  # fmt: skip
    """Which pieces were surely struck in which events: loud enough, well above bleed (more so
    where something ``bleeds`` just then, ``(pieces, events)``), and in all bands that ringing
    leaves open about as much as the signature says."""
    struck = []
    for i in range(len(own_rows)):
        it = stand(scaled, doubt, matrix, own_rows, i)
        loud = np.sort(it.level_db)[-4:].mean()
        amounts = scaled[it.rows] / matrix[it.rows, i][:, None]
        is_open = scaled[it.rows] > doubt[it.rows]
        faintest = np.where(is_open, amounts, np.inf).min(axis=0)
        like_it = FAINT * faintest > np.median(amounts, axis=0)
        struck.append(
            (it.excess_db > np.where(bleeds[i], 12, 6)) & (it.level_db > loud - 18) & like_it
        )
    return np.stack(struck)


ROUNDS = 80
FEW = 12
"""Strokes from which on what a piece leaves in others' mics is fitted jointly."""

PARSIMONY = 0.03
"""Price of a little of a piece in an event, so that none is called upon to fill small gaps."""


def _fit_jointly(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]], struck: NDArray[np.bool_], known: NDArray[np.bool_],
) -> NDArray[np.float64]:  # fmt: skip
    """Signatures and amounts fitted together to all events, soft strokes among them.

    Pieces that mostly fall together are told apart by the few events in which one of them rests.
    The Itakura-Saito divergence, by multiplicative updates (Févotte, Bertin and Durrieu 2009),
    weighs a gap of so many dB the same at any level. Only what a piece leaves in others' mics is
    fitted, and of that only what is ``known`` ``(pieces, pieces)`` from strokes at which the other
    rested; its own mics, pieces that are rarely ``struck`` (which would come to stand for whatever
    is left over) and cymbals without a mic keep what clear strokes have shown.
    """
    seen, floor = scaled + 0.5 * doubt, 0.5 * doubt + NOTHING
    amounts = explain(scaled, matrix, own_rows) + NOTHING
    matrix = matrix.copy()
    free = np.ones(matrix.shape, bool)
    free[:, len(struck) :] = False
    for i, own in enumerate(own_rows):
        free[own, i] = False
        if i < len(struck):
            for k, theirs in enumerate(own_rows[: len(struck)]):
                if not known[i, k]:
                    free[theirs, i] = False
            if struck[i].sum() < FEW:
                free[:, i] = False
    for _ in range(ROUNDS):
        little = 1e-3 * np.sort(amounts, axis=1)[:, -4:].mean(axis=1, keepdims=True)
        for _ in range(2):
            model = matrix @ amounts + floor
            price = PARSIMONY / (amounts + little + EPS)
            amounts *= (matrix.T @ (seen / model**2)) / (matrix.T @ (1 / model) + price)
        model = matrix @ amounts + floor
        renewed = matrix * ((seen / model**2) @ amounts.T) / ((1 / model) @ amounts.T + EPS)
        matrix = np.where(free, renewed, matrix)
    return np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7)


def _unexplained_cymbal(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]],
    ringing: NDArray[np.int64], overhead_rows: NDArray[np.int64],
) -> NDArray[np.float64] | None:  # fmt: skip
    """Signature of what rings on in the overheads and no piece accounts for.

    It stands in the overheads' bright rows alone: a cymbal without a mic falls together with kick
    and snare so often that anything else in it would be theirs.
    """
    bright = overhead_rows[overhead_rows % BANDS >= BANDS - 2]
    explained = matrix @ explain(scaled, matrix, own_rows)
    missing = (scaled - explained)[ringing].mean(axis=0)
    share = missing / (scaled[ringing].mean(axis=0) + EPS)
    found = np.flatnonzero((share > 0.5) & (missing > 0.15))
    if len(found) < 2:
        return None
    left = np.zeros((len(scaled), len(found)))
    rows = np.concatenate([bright, ringing])
    left[rows] = np.maximum(scaled - explained, 0)[np.ix_(rows, found)]
    shape = np.median(left / (left[ringing].mean(axis=0) + EPS), axis=1)
    return np.maximum(shape / (shape.sum() + EPS), 1e-7)


def _with_leaks(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]],
    is_drum: list[bool], cymbal: NDArray[np.float64], ringing: NDArray[np.int64],
) -> NDArray[np.float64]:  # fmt: skip
    """The cymbal's signature with what it leaves in the close mics of pieces that then rest.

    Other cymbals rest: the hand that strikes this one is not on them.
    """
    struck = own_levels(scaled, matrix, own_rows) > 10 ** (STRUCK_DB / 10)
    everything = np.column_stack([matrix, cymbal])
    amount = explain(scaled, everything, [*own_rows, ringing])[-1]
    loud = np.flatnonzero(amount > 0.3 * np.sort(amount)[-4:].mean())
    leaks = cymbal.copy()
    for k, theirs in enumerate(own_rows):
        quiet = loud[~struck[k, loud]] if is_drum[k] else loud
        if len(quiet) >= 2:
            leaks[theirs] = np.median(scaled[np.ix_(theirs, quiet)] / amount[quiet], axis=1)
    return np.maximum(leaks / leaks.sum(), 1e-7)
