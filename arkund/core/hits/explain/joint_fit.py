"""What each piece leaves in others' mics and how strongly each was struck, fitted together."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.ownership import EPS, NOTHING, explain

ROUNDS = 80
FEW = 12
"""Hits from which on what a piece leaves in others' mics is fitted jointly."""

PARSIMONY = 0.03
"""Price of a little of a piece in an event, so that none is called upon to fill small gaps."""


def fitted_jointly(
    scaled: NDArray[np.float64],
    doubt: NDArray[np.float64],
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    struck: NDArray[np.bool_],
    known: NDArray[np.bool_],
    held: NDArray[np.bool_],
) -> NDArray[np.float64]:
    """Signatures ``(rows, pieces)`` from those that clear hits have shown (``matrix``), fitted with
    all amounts to ``scaled`` events ``(rows, events)``, of which ``doubt`` may be noise; soft hits
    among them. ``held`` ``(rows, pieces)`` come out no larger than they go in.

    Pieces that mostly fall together are told apart by the few events in which one of them rests.
    The Itakura-Saito divergence, by multiplicative updates (Févotte, Bertin and Durrieu 2009),
    weighs a gap of so many dB the same at any level. Only what a piece leaves in others' mics is
    fitted, and of that only what is ``known`` ``(pieces, pieces)`` from hits at which the other
    rested; its own mics, pieces that are rarely ``struck`` (which would come to stand for whatever
    is left over) and cymbals without a mic keep what clear hits have shown.
    """
    telling = _telling(struck)
    scaled, doubt = scaled[:, telling], doubt[:, telling]
    seen, floor = scaled + 0.5 * doubt, 0.5 * doubt + NOTHING
    amounts = explain(scaled, matrix, own_rows) + NOTHING
    learned = matrix
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
    most = np.full(matrix.shape, np.inf)
    most[:, : held.shape[1]][held] = learned[:, : held.shape[1]][held]
    for _ in range(ROUNDS):
        little = 1e-3 * np.sort(amounts, axis=1)[:, -4:].mean(axis=1, keepdims=True)
        for _ in range(2):
            model = matrix @ amounts + floor
            price = PARSIMONY / (amounts + little + EPS)
            amounts *= (matrix.T @ (seen / model**2)) / (matrix.T @ (1 / model) + price)
        model = matrix @ amounts + floor
        renewed = matrix * ((seen / model**2) @ amounts.T) / ((1 / model) @ amounts.T + EPS)
        matrix = np.where(free, np.minimum(renewed, most), matrix)
    return np.maximum(matrix / (matrix.sum(axis=0) + EPS), 1e-7)


MOST_FITTED = 2000
OF_EACH, OF_EACH_PAIR, OF_OTHERS = 150, 40, 500
"""How many events, of many more, a long song's fit rests on: of each piece's hits, of those at which
one given other piece rests, and of all others."""


def _telling(struck: NDArray[np.bool_]) -> NDArray[np.int64]:
    """Events that a fit rests on, ascending: all, or of many a selection, spread over the song."""
    count = struck.shape[1]
    if count <= MOST_FITTED:
        return np.arange(count)
    chosen = [_spread(np.flatnonzero(~struck.any(axis=0)), OF_OTHERS)]
    for piece in struck:
        chosen.append(_spread(np.flatnonzero(piece), OF_EACH))
        chosen += [_spread(np.flatnonzero(piece & ~other), OF_EACH_PAIR) for other in struck]
    return np.unique(np.concatenate(chosen))


def _spread(events: NDArray[np.int64], most: int) -> NDArray[np.int64]:
    if len(events) <= most:
        return events
    return events[np.linspace(0, len(events) - 1, most).round().astype(np.int64)]
