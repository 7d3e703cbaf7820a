"""From lessons to trees: rows with what they are, folds, and the file that ships."""

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.again import AGAIN_NAMES, with_likeness
from arkund.core.hits.choose.choosing import LIKELY, told
from arkund.core.hits.choose.hits import first_shares
from arkund.core.hits.listening import Listened, listen
from arkund.core.hits.weigh.afar import FIGURES, LOOKED_UP
from arkund.core.hits.weigh.evidence import AGAINST
from arkund.core.hits.weigh.verdict import (
    AFAR_FILE,
    FILE,
    NAMES_KEY,
    PROVENANCE_KEY,
    SNARE_FILE,
    Trees,
    probabilities,
)
from arkund.core.hits.weigh.weighing import FIRST_NAMES, SPEAKS_FOR, Weighed, weighed
from arkund.core.kit.roles import piece_family
from benchmarks.fit.afar import AfarTrees
from benchmarks.fit.growing import FOLDS, folds_of, grown
from benchmarks.fit.recordings import Lesson
from benchmarks.recorded.scoring import SPAN_S, TOLERANCE_S, f_measure, matches

GRACE_WEIGHT, ROLL_WEIGHT = 0.2, 0.1
"""What is right of grace notes and within rolls is a matter of taste: it weighs little."""


@dataclass(frozen=True)
class Table:
    """Onsets of one piece of one lesson as they are ``found``, places in s: which are hits
    (``right``), how much they count (``weight``); the true hits (time, kind), without those of
    rolls, whose spans are ``rolls``."""

    lesson: str
    piece: str
    found: Weighed
    right: NDArray[np.bool_]
    weight: NDArray[np.float64]
    truth: list[tuple[float, str]]
    rolls: list[tuple[float, float]]


def tables_of(lesson: Lesson, name: str, from_afar: NDArray[np.float64] | None) -> list[Table]:
    """A table for each piece with a mic; ``from_afar`` is what is made of the lesson by trees that were
    not fitted to it."""
    listened = _listened(lesson, from_afar)
    if listened is None:
        return []
    return [
        _table(lesson, name, piece, weighed(listened.heard(piece), listened.signatures))
        for piece in listened.pieces
    ]


def tables_again(
    lesson: Lesson, name: str, from_afar: NDArray[np.float64] | None, first: Trees
) -> list[Table]:
    """A table for each snare as it is weighed again, after the ``first`` trees."""
    listened = _listened(lesson, from_afar)
    out = []
    for piece in listened.pieces if listened else []:
        assert listened is not None
        if piece_family(piece) != "snare":
            continue
        heard = listened.heard(piece)
        found = weighed(heard, listened.signatures)
        again = with_likeness(heard, found, first_shares(piece, found, first))
        if again is not None:
            out.append(_table(lesson, name, piece, again))
    return out


def _listened(lesson: Lesson, from_afar: NDArray[np.float64] | None) -> Listened | None:
    listened = listen(lesson.mics, lesson.rate)
    if listened is None or listened.afar is None:
        return listened
    return replace(listened, afar=replace(listened.afar, given=from_afar))


def _table(lesson: Lesson, name: str, piece: str, found: Weighed) -> Table:
    place = found.place / lesson.rate
    truth = sorted((t, kind) for p, t, kind in lesson.hits if p == piece)
    times = np.array([t for t, _ in truth])
    nearest = np.abs(place[:, None] - times[None, :]).min(axis=1, initial=np.inf)
    weight = np.ones(len(place))
    for t, kind in truth:
        if kind == "grace":
            weight[np.abs(place - t) < 4 * TOLERANCE_S] = GRACE_WEIGHT
    rolls = [(b, e) for p, b, e in lesson.spans if p == piece]
    for begin, end in rolls:
        weight[(place > begin - SPAN_S) & (place < end + SPAN_S)] = ROLL_WEIGHT
    hits = [(t, kind) for t, kind in truth if kind != "roll"]
    return Table(
        name, piece, replace(found, place=place), nearest <= TOLERANCE_S, weight, hits, rolls
    )


def fitted(tables: Sequence[Table], seed: int = 0) -> Trees:
    """Trees fitted to all rows of the tables."""
    columns = tables[0].found.evidence.shape[1]
    names = AGAIN_NAMES[:columns]
    held = [int(n in SPEAKS_FOR) - int(n in AGAINST) for n in names]
    rng = np.random.default_rng(seed)
    kept = [rng.random(len(t.weight)) < t.weight for t in tables]
    return grown(
        np.vstack([t.found.evidence[k] for t, k in zip(tables, kept, strict=True)]),
        np.concatenate([t.right[k] for t, k in zip(tables, kept, strict=True)]),
        held=held,
        seed=seed,
    )


def fold_trees(tables: Sequence[Table]) -> list[Trees]:
    """For each fold the trees that were fitted to the others."""
    fold = folds_of([t.lesson for t in tables])
    return [fitted([t for t in tables if fold[t.lesson] != k]) for k in range(FOLDS)]


def write_close(folder: Path, trees: Trees, said: Mapping[str, Any]) -> None:
    """A folder's file for onsets in close mics, with what it ``said`` of itself (`provenance`)."""
    np.savez_compressed(folder / FILE.name, **_parts(trees, FIRST_NAMES), **_as_text(said))


def write_again(folder: Path, trees: Trees, said: Mapping[str, Any]) -> None:
    """A folder's file of what weighs snares again."""
    np.savez_compressed(folder / SNARE_FILE.name, **_parts(trees, AGAIN_NAMES), **_as_text(said))


def write_afar(folder: Path, trees: AfarTrees, said: Mapping[str, Any]) -> None:
    """A folder's file for what overheads hear."""
    both = {"1": FIGURES, "2": (*FIGURES, *LOOKED_UP)}
    parts = {
        prefix + n: part
        for prefix, t in trees.items()
        for n, part in _parts(t, both[prefix.split("_")[1]]).items()
    }
    np.savez_compressed(folder / AFAR_FILE.name, **parts, **_as_text(said))


def _as_text(said: Mapping[str, Any]) -> dict[str, Any]:
    return {PROVENANCE_KEY: np.array(json.dumps(said))}


def _parts(trees: Trees, names: tuple[str, ...]) -> dict[str, Any]:
    """What a file holds of trees: their fields, columns counted among those that they look at, and these
    columns' names."""
    looked_at = np.unique(trees.column[trees.column >= 0])
    place = np.searchsorted(looked_at, trees.column).astype(np.int16)
    parts = {name: getattr(trees, name) for name in Trees.__dataclass_fields__}
    return parts | {
        "column": np.where(trees.column >= 0, place, np.int16(-1)),
        NAMES_KEY: np.array([names[c] for c in looked_at]),
    }


def folds_told(tables: Sequence[Table], trees_of: Sequence[Trees]) -> list[str]:
    """How well each fold of lessons is told by its trees, which were fitted to the others, line by line."""
    fold = folds_of([t.lesson for t in tables])
    rows: dict[str, list[tuple[int, int, int]]] = defaultdict(list)
    shares, right = [], []
    for k, trees in enumerate(trees_of):
        for t in tables:
            if fold[t.lesson] == k:
                share = probabilities(t.found.evidence, trees)
                sim = "simulated" if t.lesson.startswith("sim_") else "recorded"
                _score(t, share, rows, sim)
                sure = share > LIKELY
                shares.append(share[sure])
                right.append(t.right[sure])
    lines = [
        f"{what}: F {f_measure(r):.3f} ({np.sum(r, axis=0).tolist()})"
        for what, r in sorted(rows.items())
    ]
    share, is_right = np.concatenate(shares), np.concatenate(right)
    for low in (0.5, 0.7, 0.85, 0.95):
        inside = (share >= low) & (share < {0.5: 0.7, 0.7: 0.85, 0.85: 0.95, 0.95: 1.01}[low])
        lines.append(
            f"given {low} and more: {inside.sum()} of which right {is_right[inside].mean():.3f}"
        )
    return lines


def _score(
    table: Table, share: NDArray[np.float64], rows: dict[str, list[tuple[int, int, int]]], sim: str
) -> None:
    found = [float(table.found.place[i]) for i in told(table.piece, table.found, share, 1)]
    found = [f for f in found if not any(b - SPAN_S <= f <= e + SPAN_S for b, e in table.rolls)]
    true = [(t, kind) for t, kind in table.truth if kind != "grace"]
    graces = [t for t, kind in table.truth if kind == "grace"]
    pairs = matches([t for t, _ in true], found, TOLERANCE_S)
    mine = {j for _, j in pairs}
    own = [
        f for j, f in enumerate(found) if j in mine or all(abs(f - g) > TOLERANCE_S for g in graces)
    ]
    family = piece_family(table.piece)
    rows[f"{sim} {family}"].append((len(pairs), len(true), len(own)))
    if family == "tom" and len(true) <= 4:
        rows[f"{sim} tom struck up to four times"].append((len(pairs), len(true), len(own)))
    ghosts = {i for i, (_, kind) in enumerate(true) if kind == "ghost"}
    if ghosts:
        got = sum(i in ghosts for i, _ in pairs)
        rows[f"{sim} ghosts"].append((got, len(ghosts), got + len(own) - len(pairs)))
