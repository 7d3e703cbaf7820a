"""Who struck what: every event explained by a sum of pieces, so that bleed is predicted.

An event is the vector of energy that starts at one moment in every mic and band. Each piece has
a signature over those mics and bands, learned from the song's own unambiguous strokes. A
non-negative combination of signatures that explains an event best (in the Kullback-Leibler sense,
by multiplicative updates after Lee and Seung, 2001) says which pieces were struck in it, also
when several were struck at once.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from arkund.core.hits.novelty import (
    BANDS,
    BandEnergy,
)
from arkund.core.kit.roles import is_shell

_EPS = 1e-9

GUARD_MS = 6
"""An event is looked at from this much earlier: mics hear it up to so long before one another."""


@dataclass(frozen=True)
class Signatures:
    """``matrix`` is ``(mics * BANDS, pieces)`` over energies divided by ``scale``
    ``(mics * BANDS,)``; ``own_rows`` are the rows of each piece's own close mics."""

    pieces: list[str]
    matrix: NDArray[np.float64]
    scale: NDArray[np.float64]
    own_rows: dict[str, NDArray[np.int64]]


@dataclass(frozen=True)
class Events:
    """``started`` is ``(mics * BANDS, events)``: energy that starts at each event; ``doubt`` of
    the same shape is how much of that may be noise or the wavering of what rang before."""

    started: NDArray[np.float64]
    doubt: NDArray[np.float64]


def event_vectors(
    mics: list[BandEnergy], frames: NDArray[np.int64], overheads: Sequence[int] = ()
) -> Events:
    """What starts at each of ``frames`` in each mic and band.

    The most that sounds soon after, less the most that sounded just before (what rings on is not
    a new stroke), never below a tenth of the noise floor. For each of the ``overheads`` two rows
    follow that say what is still sounding above 1.2 kHz a tenth of a second later: what makes a
    cymbal a cymbal.
    """
    started, doubt = [], []
    for bands in mics:
        before, after = bands.before_and_after
        at = np.clip(frames, 0, len(before) - 1)
        early = np.maximum(at - GUARD_MS, 0)
        floor = bands.floor
        most = np.maximum(after[at], after[early])
        started.append(np.maximum((most - before[early]).astype(np.float64), 0.1 * floor).T)
        doubt.append((0.5 * before[early] + 4 * floor).astype(np.float64).T)
    for position in overheads:
        left, before = _still_sounding(mics[position])
        at = np.clip(frames, 0, len(left) - 1)
        early = np.maximum(at - GUARD_MS, 0)
        floor = mics[position].floor[-2:]
        started.append(np.maximum((left[at] - before[early]).astype(np.float64), 0.1 * floor).T)
        doubt.append((before[early] + 4 * floor).astype(np.float64).T)
    return Events(np.vstack(started), np.vstack(doubt))


def _still_sounding(bands: BandEnergy) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Least energy of the two top bands 60 to 130 ms after each frame, and the least of the
    30 ms before it, both ``(frames, 2)``: later strokes add to the energy, never to its least."""
    energy = bands.energy[:, -2:]
    smooth = ndimage.uniform_filter1d(energy, 8, axis=0, mode="nearest")
    least = ndimage.minimum_filter1d(smooth, 70, axis=0, mode="nearest")
    last = len(least) - 1
    after = least[np.minimum(np.arange(len(least)) + 95, last)]
    before = ndimage.minimum_filter1d(smooth, 30, axis=0, origin=14, mode="nearest")
    return after, before


def row_scale(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """What counts as loud in each row: the mean of its four strongest events."""
    strongest = np.sort(vectors, axis=1)[:, -4:]
    return np.maximum(strongest.mean(axis=1), _EPS)


def explain(
    vectors: NDArray[np.float64],
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    rounds: int = 60,
) -> NDArray[np.float64]:
    """Amounts ``(pieces, events)`` of each signature that explain the (scaled) vectors best.

    ``own_rows`` holds for each piece the rows of its own mics. No piece is given more than its
    own mics leave room for: what a close mic does not hear, its drum has not played.
    """
    ceiling = np.stack([_ceiling(vectors, matrix[:, i], own) for i, own in enumerate(own_rows)])
    weights = matrix.sum(axis=0)[:, None] + _EPS
    amounts = np.minimum(matrix.T @ vectors / weights + _EPS, ceiling)
    for _ in range(rounds):
        amounts *= matrix.T @ (vectors / (matrix @ amounts + 1e-7)) / weights
        np.minimum(amounts, ceiling, out=amounts)
    return amounts


def _ceiling(
    vectors: NDArray[np.float64], signature: NDArray[np.float64], own: NDArray[np.int64]
) -> NDArray[np.float64]:
    """Largest amount of one piece per event: 6 dB over the median of what the telling rows of its
    own mics would allow singly (strokes differ in colour, hence the room)."""
    if len(own) == 0:
        return np.full(vectors.shape[1], np.inf)
    telling = _telling(signature, own)
    allowed = vectors[telling] / signature[telling, None]
    median: NDArray[np.float64] = np.median(allowed, axis=0)
    return 4.0 * median + _EPS


def excess_db(
    events: Events, signatures: Signatures, piece: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """For each event the level of ``piece`` in its own mics, and how far that exceeds bleed, dB.

    Bleed is predicted: the other pieces are fitted to all mics but this piece's own, and their
    signatures say what they leave in those. Both figures are means over the telling rows, the
    level against a typical loud event, the excess over the better half of the rows, for bleed
    hides some bands of a stroke and leaves others.
    """
    scaled = events.started / signatures.scale[:, None]
    doubt = events.doubt / signatures.scale[:, None]
    rows = [signatures.own_rows[p] for p in signatures.pieces]
    return _excess(scaled, doubt, signatures.matrix, rows, piece)


def _excess(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]], piece: int,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:  # fmt: skip
    own = own_rows[piece]
    telling = _telling(matrix[:, piece], own)
    level = 10 * np.log10(np.mean(scaled[telling] / matrix[telling, piece][:, None], axis=0) + _EPS)
    others = np.delete(np.arange(matrix.shape[1]), piece)
    if len(others) == 0:
        return level, np.full(scaled.shape[1], 60.0)
    elsewhere = np.setdiff1d(np.arange(len(scaled)), own)
    position = {row: i for i, row in enumerate(elsewhere)}
    rows = [np.array([position[r] for r in own_rows[i] if r in position], int) for i in others]
    amounts = explain(scaled[elsewhere], matrix[np.ix_(elsewhere, others)], rows)
    bleed = matrix[np.ix_(telling, others)] @ amounts
    unsure = doubt[telling] + 1e-7
    excess = np.sort(10 * np.log10((scaled[telling] + unsure) / (bleed + unsure)), axis=0)
    return level, excess[len(telling) // 2 :].mean(axis=0)


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
        return Signatures([], np.zeros((len(scaled), 0)), scale, own_rows)

    loudness = np.stack([np.sqrt(scaled[own_rows[p]]).mean(axis=0) for p in pieces])
    matrix = np.stack([_first_guess(scaled, loudness, p) for p in range(len(pieces))], axis=1)
    keep = _distinct(matrix, pieces, own_rows)
    pieces, matrix = [pieces[i] for i in keep], matrix[:, keep]
    rows = [own_rows[p] for p in pieces]
    struck = own_levels(scaled, matrix, rows) > 10 ** (STRUCK_DB / 10)
    for _ in range(3):
        matrix = _relearn(scaled, matrix, rows, struck)
        struck = _struck(scaled, doubt, matrix, rows)
    for name in ("crash_1", "ride"):
        if name not in own_mics and overheads:
            rows = [own_rows[p] for p in pieces]
            ringing = np.arange(len(scaled) - 2 * len(overheads), len(scaled))
            found = _unexplained_cymbal(scaled, matrix, rows, ringing, _rows_of(overheads))
            if found is not None:
                found = _with_leaks(scaled, matrix, rows, found, ringing)
                pieces, matrix = [*pieces, name], np.column_stack([matrix, found])
                own_rows[name] = ringing
    return Signatures(pieces, matrix, scale, own_rows)


def _rows_of(mics: list[int]) -> NDArray[np.int64]:
    return np.concatenate(
        [np.arange(m * BANDS, (m + 1) * BANDS) for m in mics] or [np.zeros(0, np.int64)]
    ).astype(np.int64)


def _own_rows(piece: str, mics: list[int]) -> NDArray[np.int64]:
    """Rows that speak for a piece: those of its close mics; of a cymbal's only the bright ones,
    for what its mic hears below 1.2 kHz is the drums."""
    rows = _rows_of(mics)
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
    shape: NDArray[np.float64] = np.median(events / (amount + _EPS), axis=1)
    return np.maximum(shape / (shape.sum() + _EPS), 1e-7)


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


def own_levels(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]]
) -> NDArray[np.float64]:
    """Amount ``(pieces, events)`` of each piece by its own mics alone, 1 for its loud strokes."""
    levels = []
    for i, own in enumerate(own_rows):
        telling = _telling(matrix[:, i], own)
        level = np.median(scaled[telling] / matrix[telling, i][:, None], axis=0)
        levels.append(level / (np.sort(level)[-4:].mean() + _EPS))
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


def _struck(
    scaled: NDArray[np.float64], doubt: NDArray[np.float64], matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
) -> NDArray[np.bool_]:  # fmt: skip
    """Which pieces were surely struck in which events: loud enough and well above bleed."""
    struck = []
    for i in range(len(own_rows)):
        level, excess = _excess(scaled, doubt, matrix, own_rows, i)
        struck.append((excess > 6) & (level > np.sort(level)[-4:].mean() - 18))
    return np.stack(struck)


def _telling(signature: NDArray[np.float64], own: NDArray[np.int64]) -> NDArray[np.int64]:
    """Those of a piece's own rows that hold a fair part of it."""
    return own[signature[own] > 0.1 * signature[own].max()]


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
        for i, own in enumerate(own_rows) if len(t := _telling(matrix[:, i], own))
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
    return np.maximum(renewed / (renewed.sum(axis=0) + _EPS), 1e-7)


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
    share = missing / (scaled[ringing].mean(axis=0) + _EPS)
    found = np.flatnonzero((share > 0.5) & (missing > 0.15))
    if len(found) < 2:
        return None
    left = np.zeros((len(scaled), len(found)))
    rows = np.concatenate([bright, ringing])
    left[rows] = np.maximum(scaled - explained, 0)[np.ix_(rows, found)]
    return _typical(left, left[ringing].mean(axis=0))


def _with_leaks(
    scaled: NDArray[np.float64], matrix: NDArray[np.float64], own_rows: list[NDArray[np.int64]],
    cymbal: NDArray[np.float64], ringing: NDArray[np.int64],
) -> NDArray[np.float64]:  # fmt: skip
    """The cymbal's signature with what it leaves in the close mics of pieces that then rest."""
    struck = own_levels(scaled, matrix, own_rows) > 10 ** (STRUCK_DB / 10)
    everything = np.column_stack([matrix, cymbal])
    amount = explain(scaled, everything, [*own_rows, ringing])[-1]
    loud = np.flatnonzero(amount > 0.3 * np.sort(amount)[-4:].mean())
    leaks = cymbal.copy()
    for k, theirs in enumerate(own_rows):
        quiet = loud[~struck[k, loud]]
        if len(quiet) >= 2:
            leaks[theirs] = np.median(scaled[np.ix_(theirs, quiet)] / amount[quiet], axis=1)
    return np.maximum(leaks / leaks.sum(), 1e-7)
