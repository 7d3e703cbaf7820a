"""A whole kit in one sound: what was struck is told by its bands alone.

Of all onsets those that are most like a kick, a snare, a tom and a hat are looked for by what each
has more of than the others; they say how these sound in this song, and every onset is
explained by a sum of them.
"""

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.novelty import BandEnergy, candidates
from arkund.core.hits.ownership import EPS, event_vectors

Levels = NDArray[np.float64]
"""``(rows, events)`` in dB against each row's loudest events: the bands of `novelty`, then what is
left of the two top ones a tenth of a second later."""


def _kick(e: Levels) -> Levels:
    return np.where(e[0] > -9, e[0] - np.maximum(e[2], e[3]), -np.inf)


def _snare(e: Levels) -> Levels:
    return np.where(e[2:5].min(axis=0) > -10, e[2:5].min(axis=0) - 0.3 * e[0], -np.inf)


def _tom(e: Levels) -> Levels:
    body = e[1:3].max(axis=0)
    is_tom = (body > -15) & (e[0] < -6) & (e[3] < body - 3)
    return np.where(is_tom, body - e[4], -np.inf)


def _hat(e: Levels) -> Levels:
    return np.where(e[5] > -26, e[5] - np.maximum(e[1], e[2]), -np.inf)


MOST_LIKE: dict[str, Callable[[Levels], Levels]] = {
    "kick": _kick, "snare": _snare, "tom": _tom, "hat": _hat,
}  # fmt: skip
"""How much each event is like a piece, from its levels."""

LEAST_SEEDS, SEEDS = 3, 0.1
"""How many events, at least and as a share of all, a piece's sound is taken from."""

LEAST_DB = {"kick": -9.0, "snare": -26.0, "hat": -12.0}
"""Level against a piece's loud strokes below which it is not told."""

LEAST_SHARE = {"kick": 0.4, "snare": 0.6, "hat": 0.5}
"""Of the energy in a piece's telling bands, how much must be its own."""

TELLING = {"kick": (0,), "snare": (1, 2, 3), "hat": (4, 5)}
ROUNDS = 60
PARSIMONY = 0.1
"""Price of a little of a piece in an event, so that none is called upon to fill small gaps."""


def whole_kit(bands: BandEnergy) -> dict[str, list[tuple[int, float, float]]]:
    """Strokes of each piece in one sound: candidate frame, level in dB against its loud strokes,
    and how far it stands above what the others account for, in dB.

    Toms are told from the others and not from one another, so none is reported.
    """
    frames = candidates(bands)
    if len(frames) < 4:
        return {}
    events = event_vectors([bands], frames, [0])
    loudest = np.sort(events.started, axis=1)[:, -4:].mean(axis=1, keepdims=True) + EPS
    energy, floor = events.started / loudest, 0.5 * events.doubt / loudest
    names, matrix = _sounds(energy)
    amounts = _amounts(energy, floor, matrix)
    model = matrix @ amounts + floor + EPS
    out: dict[str, list[tuple[int, float, float]]] = {}
    for n, piece in enumerate(names):
        if piece not in TELLING:
            continue
        level = 10 * np.log10(amounts[n] / (np.sort(amounts[n])[-4:].mean() + EPS) + EPS)
        rows = list(TELLING[piece])
        share = np.median(matrix[rows, n][:, None] * amounts[n] / model[rows], axis=0)
        chosen = (level > LEAST_DB[piece]) & (share > LEAST_SHARE[piece])
        excess = -10 * np.log10(np.maximum(1 - share, 1e-3))
        strokes = [(int(frames[i]), float(level[i]), float(excess[i]))
                   for i in np.flatnonzero(chosen)]  # fmt: skip
        if strokes:
            out[piece] = strokes
    return out


def _sounds(energy: NDArray[np.float64]) -> tuple[list[str], NDArray[np.float64]]:
    """Pieces that are heard at all and how they sound, ``(rows, pieces)``."""
    levels = 10 * np.log10(energy + EPS)
    names, columns = [], []
    for piece, most_like in MOST_LIKE.items():
        score = most_like(levels)
        order = np.argsort(-score)[: max(LEAST_SEEDS, round(SEEDS * len(score)))]
        seeds = order[np.isfinite(score[order])]
        if len(seeds) < LEAST_SEEDS:
            continue
        seeds = seeds[score[seeds] > np.median(score[seeds]) - 6]
        names.append(piece)
        column = np.median(energy[:, seeds], axis=1)
        columns.append(column / column.max())
    if not names:
        return [], np.zeros((len(energy), 0))
    return names, np.stack(columns, axis=1)


def _amounts(
    energy: NDArray[np.float64], floor: NDArray[np.float64], matrix: NDArray[np.float64]
) -> NDArray[np.float64]:
    """Amounts ``(pieces, events)`` that explain the events best in the Itakura-Saito sense, which
    weighs a gap of so many dB the same at any level (Févotte, Bertin and Durrieu 2009)."""
    seen = energy + floor
    amounts = np.repeat(0.3 * energy.max(axis=0, keepdims=True), matrix.shape[1], axis=0)
    for _ in range(ROUNDS):
        model = matrix @ amounts + floor + 1e-6
        price = PARSIMONY / (amounts + 1e-3 * amounts.max(axis=0) + EPS)
        amounts *= (matrix.T @ (seen / model**2)) / (matrix.T @ (1 / model) + price)
    return amounts
