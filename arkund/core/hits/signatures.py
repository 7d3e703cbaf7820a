"""What each piece leaves in every mic and band, learned from the song itself.

First from strokes that stand clear, then from all of them together: the signatures are fitted
jointly with how strongly each piece was struck in each event.
"""

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.novelty import BANDS
from arkund.core.hits.ownership import (
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
from arkund.core.kit.roles import is_shell


def learn_signatures(
    events: Events, own_mics: dict[str, list[int]], overheads: list[int]
) -> Signatures:
    """Signatures of every piece with a close mic, then of cymbals that only overheads hear.

    ``own_mics`` maps a piece to the positions of its close mics. A piece whose mic holds nothing
    but bleed gets no signature: its loudest events look like another piece's.
    """
    scale = row_scale(events.started)
    scaled, doubt = events.started / scale[:, None], events.doubt / scale[:, None]
    own_rows = {p: _own_rows(p, m) for p, m in own_mics.items()}
    pieces = [p for p, rows in own_rows.items() if len(rows)]
    if not pieces or scaled.shape[1] == 0:
        nothing = np.zeros((len(scaled), 0))
        return Signatures([], nothing, scale, own_rows, np.zeros(0, np.int64))

    loudness = np.stack([np.sqrt(scaled[own_rows[p]]).mean(axis=0) for p in pieces])
    matrix = np.stack([_first_guess(scaled, loudness, p) for p in range(len(pieces))], axis=1)
    keep = _distinct(matrix, pieces, own_rows)
    pieces, matrix = [pieces[i] for i in keep], matrix[:, keep]
    rows = [own_rows[p] for p in pieces]
    struck = own_levels(scaled, matrix, rows) > 10 ** (STRUCK_DB / 10)
    for _ in range(3):
        matrix = _relearn(scaled, matrix, rows, struck)
        struck = _struck(scaled, doubt, matrix, rows)
    with_mic = len(pieces)
    for name in ("crash_1", "ride"):
        if name not in own_mics and overheads:
            rows = [own_rows[p] for p in pieces]
            ringing = np.arange(len(scaled) - 2 * len(overheads), len(scaled))
            found = _unexplained_cymbal(scaled, matrix, rows, ringing, rows_of(overheads))
            if found is not None:
                drums = [is_shell(p) for p in pieces]
                found = _with_leaks(scaled, matrix, rows, drums, found, ringing)
                pieces, matrix = [*pieces, name], np.column_stack([matrix, found])
                own_rows[name] = ringing
    rows = [own_rows[p] for p in pieces]
    matrix = _fit_jointly(scaled, doubt, matrix, rows, struck)
    unknown = np.ones(len(pieces) - with_mic, np.int64)
    strokes = np.concatenate([struck.sum(axis=1), 10 * unknown])
    return Signatures(pieces, matrix, scale, own_rows, strokes)


ROUNDS = 80
FEW = 12
"""Strokes from which on what a piece leaves in others' mics is fitted jointly."""

PARSIMONY = 0.03
"""Price of a little of a piece in an event, so that none is called upon to fill small gaps."""


def _fit_jointly(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]], struck: NDArray[np.bool_],
) -> NDArray[np.float64]:  # fmt: skip
    """Signatures and amounts fitted together to all events, soft strokes among them.

    Pieces that mostly fall together are told apart by the few events in which one of them rests.
    The Itakura-Saito divergence, by multiplicative updates (Févotte, Bertin and Durrieu 2009),
    weighs a gap of so many dB the same at any level. Only what a piece leaves in others' mics is
    fitted; its own mics, pieces that are rarely ``struck`` (which would come to stand for whatever
    is left over) and cymbals without a mic keep what clear strokes have shown.
    """
    seen, floor = scaled + 0.5 * doubt, 0.5 * doubt + NOTHING
    amounts = explain(scaled, matrix, own_rows) + NOTHING
    matrix = matrix.copy()
    free = np.ones(matrix.shape, bool)
    free[:, len(struck) :] = False
    for i, own in enumerate(own_rows):
        free[own, i] = False
        if i < len(struck) and struck[i].sum() < FEW:
            free[:, i] = False
    for _ in range(ROUNDS):
        little = 1e-3 * np.sort(amounts, axis=1)[:, -4:].mean(axis=1, keepdims=True)
        for _ in range(2):
            model = matrix @ amounts + floor
            price = PARSIMONY / (amounts + little)
            amounts *= (matrix.T @ (seen / model**2)) / (matrix.T @ (1 / model) + price)
        model = matrix @ amounts + floor
        renewed = matrix * ((seen / model**2) @ amounts.T) / ((1 / model) @ amounts.T + EPS)
        matrix = np.where(free, renewed, matrix)
    return np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7)


def _own_rows(piece: str, mics: list[int]) -> NDArray[np.int64]:
    """Rows that speak for a piece: those of its close mics; of a cymbal's only the bright ones,
    for what its mic hears below 1.2 kHz is the drums."""
    rows = rows_of(mics)
    return rows if is_shell(piece) else rows[rows % BANDS >= BANDS - 2]


def _first_guess(
    scaled: NDArray[np.float64], level: NDArray[np.float64], piece: int
) -> NDArray[np.float64]:
    """Median of the events in which this piece's mics are loud and no other's are."""
    others = np.delete(level, piece, axis=0)
    lead = level[piece] / (others.max(axis=0) + 0.02) if len(others) else level[piece]
    score = lead * np.minimum(level[piece], 0.5)
    best = np.argsort(score)[-max(3, min(40, len(score) // 12)) :]
    best = best[score[best] > 0.35 * score[best[-1]]]
    return _typical(scaled[:, best], level[piece, best] ** 2)


def _typical(events: NDArray[np.float64], amount: NDArray[np.float64]) -> NDArray[np.float64]:
    """Median over events of one piece, each taken at equal amount; sums to 1."""
    shape: NDArray[np.float64] = np.median(events / (amount + EPS), axis=1)
    return np.maximum(shape / (shape.sum() + EPS), 1e-7)


def _distinct(
    matrix: NDArray[np.float64], pieces: list[str], own_rows: dict[str, NDArray[np.int64]]
) -> list[int]:
    """Indices of signatures that are not another's bleed.

    Two that look alike (cosine of their roots above 0.93) are one piece: the one whose own mics
    hold more of it stays.
    """
    roots = np.sqrt(matrix)
    roots = roots / np.linalg.norm(roots, axis=0)
    own = np.array([matrix[own_rows[p], i].mean() for i, p in enumerate(pieces)])
    keep: list[int] = []
    for i in np.argsort(-own):
        if all(roots[:, i] @ roots[:, k] < 0.93 for k in keep):
            keep.append(int(i))
    return sorted(keep)


QUIET_DB = -14.0
"""Level in its own mics below which a piece counts as surely at rest."""

STRUCK_DB = -10.0
"""Level in its own mics, against its loud strokes, from which a piece counts as surely struck."""


COLOUR = 4.0
"""How many times more of a stroke one band may hold than another, against the signature."""


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


def _leak(
    ratio: NDArray[np.float64], level: NDArray[np.float64], struck: NDArray[np.bool_]
) -> NDArray[np.float64]:
    """What a piece leaves in another's own rows, from ``ratio`` ``(rows, events)`` of their energy
    to its amount, the other's ``level`` in the same events, and whether it was ``struck``."""
    quiet = level < 10 ** (QUIET_DB / 10)
    if quiet.sum() >= 3:
        return np.median(ratio[:, quiet], axis=1)
    if (~struck).sum() >= 3:
        return np.quantile(ratio[:, ~struck], 0.4, axis=1)
    # Two that always fall together: the little that is known is that the leak is far smaller.
    return 0.03 * np.quantile(ratio, 0.1, axis=1)


FAINT = 5.0
"""By how much a piece's faintest band may fall short of its median in a stroke that is sure."""


def _struck(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
) -> NDArray[np.bool_]:  # fmt: skip
    """Which pieces were surely struck in which events: loud enough, well above bleed, and in all
    bands that ringing leaves open about as much as the signature says."""
    struck = []
    for i in range(len(own_rows)):
        it = stand(scaled, doubt, matrix, own_rows, i)
        loud = np.sort(it.level_db)[-4:].mean()
        amounts = scaled[it.rows] / matrix[it.rows, i][:, None]
        is_open = scaled[it.rows] > doubt[it.rows]
        faintest = np.where(is_open, amounts, np.inf).min(axis=0)
        like_it = FAINT * faintest > np.median(amounts, axis=0)
        struck.append((it.excess_db > 6) & (it.level_db > loud - 18) & like_it)
    return np.stack(struck)


def _relearn(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]],
    struck: NDArray[np.bool_],
) -> NDArray[np.float64]:  # fmt: skip
    """Signatures again, from the events in which each piece was struck, ``(pieces, events)``.

    What a piece leaves in another's own mics is learned only where that other was not struck;
    from mics close to none (overheads) what the others account for is taken off first. So pieces
    that always fall together are still told apart.
    """
    levels = own_levels(scaled, matrix, own_rows)
    amounts = np.stack([
        np.median(scaled[t] / matrix[t, i][:, None], axis=0)
        for i, own in enumerate(own_rows) if len(t := telling_rows(matrix[:, i], own))
    ])  # fmt: skip
    foreign = np.setdiff1d(np.arange(len(scaled)), np.concatenate(own_rows))
    renewed = np.full_like(matrix, 1e-7)
    for i, own in enumerate(own_rows):
        mine = np.flatnonzero(struck[i])
        if len(mine) < 2:
            renewed[:, i] = matrix[:, i]
            continue
        alone = mine[struck[:, mine].sum(axis=0) == 1]
        shape_from = alone if len(alone) >= 4 else mine
        amount = amounts[i]
        renewed[own, i] = np.median(scaled[np.ix_(own, shape_from)] / amount[shape_from], axis=1)
        others = np.where(struck, amounts, 0.0)[:, mine]
        others[i] = 0.0
        rest = np.maximum(scaled[np.ix_(foreign, mine)] - matrix[foreign] @ others, 0.0)
        renewed[foreign, i] = np.median(rest / amount[mine], axis=1)
        for k, theirs in enumerate(own_rows):
            if k != i:
                ratio = scaled[np.ix_(theirs, mine)] / amount[mine]
                renewed[theirs, i] = _leak(ratio, levels[k, mine], struck[k, mine])
    return np.maximum(renewed / (renewed.sum(axis=0) + EPS), 1e-7)


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
    return _typical(left, left[ringing].mean(axis=0))


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
