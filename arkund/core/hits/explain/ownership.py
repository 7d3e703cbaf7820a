"""Who struck what: every event explained by a sum of pieces, so that bleed is predicted.

An event is the vector of energy that starts at one moment in every mic and band. Each piece has
a signature over those mics and bands (`signatures`). The non-negative combination of them that
explains an event best (in the Kullback-Leibler sense, by multiplicative updates after Lee and
Seung, 2001) says which pieces were struck in it, also when several were struck at once.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hear.novelty import BANDS, BandEnergy
from arkund.core.kernel import kernel

EPS = 1e-9
NOTHING = 1e-5
"""Energy 50 dB under a row's loudest events: no hit is told by so little."""

GUARD_MS = 6
"""An event is looked at from this much earlier: mics hear it up to so long before one another."""

AT_ONCE = 32
"""Events of which the amounts are found together."""


@dataclass(frozen=True)
class Signatures:
    """``matrix`` is ``(mics * BANDS, pieces)`` over energies divided by ``scale``
    ``(mics * BANDS,)``; ``own_rows`` are the rows of each piece's own close mics, ``hits``
    ``(pieces,)`` from how many sure hits each was learned. ``ways_s`` is how much later than
    its own mic another piece's mic hears it, by (other, piece), where that is known; ``spread``
    ``(mics * BANDS, pieces)`` how many times more than the ``matrix`` says a hit may leave."""

    pieces: list[str]
    matrix: NDArray[np.float64]
    scale: NDArray[np.float64]
    own_rows: dict[str, NDArray[np.int64]]
    hits: NDArray[np.int64]
    ways_s: dict[tuple[str, str], float]
    spread: NDArray[np.float64]


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
    a new hit), never below a tenth of the noise floor. For each of the ``overheads`` two rows
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
        left, before = mics[position].still_sounding
        at = np.clip(frames, 0, len(left) - 1)
        early = np.maximum(at - GUARD_MS, 0)
        floor = mics[position].floor[-2:]
        started.append(np.maximum((left[at] - before[early]).astype(np.float64), 0.1 * floor).T)
        doubt.append((before[early] + 4 * floor).astype(np.float64).T)
    return Events(np.vstack(started), np.vstack(doubt))


def row_scale(vectors: NDArray[np.float64]) -> NDArray[np.float64]:
    """What counts as loud in each row of ``vectors`` ``(rows, events)``: the mean of its four strongest events."""
    strongest = np.sort(vectors, axis=1)[:, -4:]
    return np.maximum(strongest.mean(axis=1), EPS)


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
    weights = matrix.sum(axis=0) + EPS
    amounts = np.minimum(matrix.T @ vectors / weights[:, None] + EPS, ceiling)
    _closer(vectors, matrix, weights, ceiling, amounts, rounds)
    return amounts


@kernel(fastmath=True)
def _closer(vectors, matrix, weights, ceiling, amounts, rounds):  # type: ignore[no-untyped-def]
    """Multiplicative updates of the ``amounts`` towards the least Kullback-Leibler divergence (Lee and
    Seung 2001), so many events at a time that all of theirs stays in the nearest cache."""
    rows, pieces = matrix.shape
    total = np.empty(AT_ONCE)
    for first in range(0, vectors.shape[1], AT_ONCE):
        count = min(AT_ONCE, vectors.shape[1] - first)
        some = slice(first, first + count)
        now, most = amounts[:, some].copy(), ceiling[:, some].copy()
        told = vectors[:, some].copy()
        towards = np.empty((pieces, count))
        for _ in range(rounds):
            towards[:] = 0.0
            for row in range(rows):
                total[:] = 1e-7
                for i in range(pieces):
                    for k in range(count):
                        total[k] += matrix[row, i] * now[i, k]
                for k in range(count):
                    total[k] = told[row, k] / total[k]
                for i in range(pieces):
                    for k in range(count):
                        towards[i, k] += matrix[row, i] * total[k]
            for i in range(pieces):
                for k in range(count):
                    now[i, k] = min(now[i, k] * towards[i, k] / weights[i], most[i, k])
        amounts[:, some] = now


def _ceiling(
    vectors: NDArray[np.float64], signature: NDArray[np.float64], own: NDArray[np.int64]
) -> NDArray[np.float64]:
    """Largest amount of one piece per event: 6 dB over the median of what the telling rows of its
    own mics would allow singly (hits differ in colour, hence the room)."""
    if len(own) == 0:
        return np.full(vectors.shape[1], np.inf)
    telling = telling_rows(signature, own)
    allowed = vectors[telling] / signature[telling, None]
    median: NDArray[np.float64] = np.median(allowed, axis=0)
    return 4.0 * median + EPS


@dataclass(frozen=True)
class Standing:
    """How a piece stands in each event: ``level_db`` ``(events,)`` in its own mics against a
    typical loud event, ``excess_db`` ``(events,)`` over the bleed that the others predict there
    and ``clear_db`` over the most that they may leave there, and ``over_db`` ``(rows, events)``,
    the excess in each of its telling ``rows``."""

    level_db: NDArray[np.float64]
    excess_db: NDArray[np.float64]
    clear_db: NDArray[np.float64]
    rows: NDArray[np.int64]
    over_db: NDArray[np.float64]


def standing(events: Events, signatures: Signatures, piece: int) -> Standing:
    """How ``piece`` stands in each event.

    Bleed is predicted: the other pieces are fitted to all mics but this piece's own, and their
    signatures say what they leave in those. The level is a mean over the telling rows, the excess
    one over the rows that stand out most, for bleed hides some bands of a hit and leaves
    others; but bleed only adds, so no band is taken to hold more of a hit than the faintest
    one allows.
    """
    scaled = events.started / signatures.scale[:, None]
    doubt = events.doubt / signatures.scale[:, None]
    rows = [signatures.own_rows[p] for p in signatures.pieces]
    return stand(scaled, doubt, signatures.matrix, rows, piece, signatures.hits, signatures.spread)


COLOUR = 4.0
"""How many times more of a hit one band may hold than another, against the signature."""

MOST_COLOUR = 12.0
"""The same for soft hits and all that rings."""

UNSURE_DB = 8.0
"""How much excess a leak learned from one hit makes doubtful; of n hits, √n times less."""


def stand(
    scaled: NDArray[np.float64],
    doubt: NDArray[np.float64],
    matrix: NDArray[np.float64],
    own_rows: list[NDArray[np.int64]],
    piece: int,
    hits: NDArray[np.int64] | None = None,
    spread: NDArray[np.float64] | None = None,
) -> Standing:
    """`standing`, from rows ``(rows, events)`` already divided by their scale."""
    own = own_rows[piece]
    telling = telling_rows(matrix[:, piece], own)
    ratio = scaled[telling] / matrix[telling, piece][:, None]
    level = 10 * np.log10(np.mean(ratio, axis=0) + EPS)
    others = np.delete(np.arange(matrix.shape[1]), piece)
    if len(others) == 0:
        clear = np.full(scaled.shape[1], 60.0)
        return Standing(level, clear, clear, telling, np.full(ratio.shape, 60.0))
    elsewhere = np.setdiff1d(np.arange(len(scaled)), own)
    position = {row: i for i, row in enumerate(elsewhere)}
    rows = [np.array([position[r] for r in own_rows[i] if r in position], int) for i in others]
    amounts = explain(scaled[elsewhere], matrix[np.ix_(elsewhere, others)], rows)
    unsure = doubt[telling] + NOTHING
    is_open = scaled[telling] > doubt[telling]
    most = (
        MOST_COLOUR * np.where(is_open, ratio, np.inf).min(axis=0) * matrix[telling, piece][:, None]
    )

    def over(leaks: NDArray[np.float64]) -> NDArray[np.float64]:
        bleed = leaks @ amounts
        held = np.minimum(scaled[telling], bleed + most)
        out: NDArray[np.float64] = 10 * np.log10((held + unsure) / (bleed + unsure))
        if hits is not None:
            doubtful = leaks / np.sqrt(np.maximum(hits[others], 1.0))
            out -= UNSURE_DB * (doubtful @ amounts) / (bleed + unsure)
        return out

    count = min((len(telling) + 1) // 2, 4)

    def excess(over_db: NDArray[np.float64]) -> NDArray[np.float64]:
        mean: NDArray[np.float64] = np.sort(over_db, axis=0)[-count:].mean(axis=0)
        return mean

    leaks = matrix[np.ix_(telling, others)]
    usual = over(leaks)
    clear = usual if spread is None else over(leaks * spread[np.ix_(telling, others)])
    return Standing(level, excess(usual), excess(clear), telling, usual)


def rows_of(mics: Sequence[int]) -> NDArray[np.int64]:
    """Rows of the mics at these positions."""
    bands = [np.arange(m * BANDS, (m + 1) * BANDS) for m in mics]
    return np.concatenate([np.zeros(0, np.int64), *bands]).astype(np.int64)


def telling_rows(signature: NDArray[np.float64], own: NDArray[np.int64]) -> NDArray[np.int64]:
    """Those of a piece's ``own`` rows that hold a fair part of its ``signature`` ``(rows,)``."""
    return own[signature[own] > 0.1 * signature[own].max()]
