"""The signature of what rings in the overheads and belongs to no piece with a mic of its own."""

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.heard import Heard
from arkund.core.hits.explain.known import BLEEDS_DB, as_cymbals_sound
from arkund.core.hits.explain.ownership import COLOUR, EPS, explain, telling_rows
from arkund.core.hits.hear.novelty import BANDS

CYMBAL = "cymbal"
"""What rings in the overheads and no piece with a mic accounts for, until it is told apart."""

LOUDEST = 12
"""Events whose mean says how loud a cymbal is in its own mic."""

STRUCK_DB = -10.0
"""Level in its own mics, against its loud hits, from which a piece counts as surely struck."""


def own_levels(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]]
) -> NDArray[np.float64]:
    """Amount ``(pieces, events)`` of each piece by its own mics alone, 1 for its loud hits.

    Bleed adds to a band and never takes from it, so a hit is no louder than its faintest band
    allows: what fills only some bands of a drum's mic is another piece.
    """
    levels = []
    for i, own in enumerate(own_rows):
        telling = telling_rows(matrix[:, i], own)
        amounts = scaled[telling] / matrix[telling, i][:, None]
        level = np.minimum(np.median(amounts, axis=0), COLOUR * amounts.min(axis=0))
        levels.append(level / (np.sort(level)[-4:].mean() + EPS))
    return np.stack(levels)


def unexplained_cymbal(
    scaled: NDArray[np.float64],
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    ringing: NDArray[np.int64],
    overhead_rows: NDArray[np.int64],
) -> NDArray[np.float64] | None:
    """Signature ``(rows,)`` of what rings on in the overheads and no piece accounts for; ``scaled`` is
    ``(rows, events)``, ``matrix`` ``(rows, pieces)``.

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


def with_leaks(
    heard: Heard,
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    is_drum: list[bool],
    cymbal: NDArray[np.float64],
    ringing: NDArray[np.int64],
) -> NDArray[np.float64]:
    """The cymbal's signature with what it leaves in the close mics of pieces that then rest.

    Other cymbals rest: the hand that strikes this one is not on them.
    """
    scaled = heard.scaled
    struck = own_levels(scaled, matrix, own_rows) > 10 ** (STRUCK_DB / 10)
    everything = np.column_stack([matrix, cymbal])
    amount = explain(scaled, everything, [*own_rows, ringing])[-1]
    loud = np.flatnonzero(amount > 0.3 * np.sort(amount)[-4:].mean())
    leaks = cymbal.copy()
    for k, theirs in enumerate(own_rows):
        quiet = loud[~struck[k, loud]] if is_drum[k] else loud
        if len(quiet) >= 2:
            # Ghosts may hide in most of them.
            least = np.quantile(scaled[np.ix_(theirs, quiet)] / amount[quiet], 0.25, axis=1)
            leaks[theirs] = least
            if is_drum[k]:
                leaks[theirs] = as_cymbals_sound(CYMBAL, least, heard.scale[theirs], theirs % BANDS)
        if not is_drum[k]:
            # Ringing that this cymbal's own hits leave must not make it another's bleed.
            usual = np.sort(scaled[theirs], axis=1)[:, -LOUDEST:].mean(axis=1)
            most = 10 ** (BLEEDS_DB["cymbal", False] / 10) * usual / np.median(amount[loud])
            leaks[theirs] = np.minimum(leaks[theirs], most)
    return np.maximum(leaks / leaks.sum(), 1e-7)
