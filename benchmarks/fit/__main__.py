"""Fit what weighs an onset's evidence; see the package."""

import argparse
import pickle
import tempfile
from collections.abc import Callable, Sequence
from concurrent.futures import Executor, ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.weigh.verdict import AFAR_FILE, FILE, SNARE_FILE, Trees
from benchmarks.fit.afar import (
    AfarTable,
    afar_tables,
    afar_told,
    fitted_afar,
    in_folds,
)
from benchmarks.fit.fitting import (
    Table,
    fitted,
    fold_trees,
    folds_told,
    tables_again,
    tables_of,
    write_afar,
    write_again,
    write_close,
)
from benchmarks.fit.growing import folds_of
from benchmarks.fit.provenance import file_hash, provenance
from benchmarks.fit.recordings import afar_lessons, close_lessons, kept, world_lessons
from benchmarks.worlds.report import TREES

SEED = 0
Lessons = list[tuple[str, int]]


def _once(file: Path, make: Callable[[], list[Any]]) -> list[Any]:
    """What the file holds, made first if there is none."""
    if not file.exists():
        part = file.with_suffix(".part")
        part.write_bytes(pickle.dumps(make()))
        part.replace(file)
    found: list[Any] = pickle.loads(file.read_bytes())
    return found


def _afar(folder: Path, name: str, seed: int) -> list[AfarTable]:
    """Of one lesson, kept in the folder too."""

    def make() -> list[AfarTable]:
        (lesson,) = kept(folder, [(name, seed)])
        return afar_tables(lesson, f"{name}-{seed}")

    return _once(folder / f"{name}-{seed}.afar", make)


def _close(folder: Path, name: str, seed: int, share: NDArray[np.float64] | None) -> list[Table]:
    """Of one lesson, kept in the folder too; ``share`` is what is made of it from afar."""

    def make() -> list[Table]:
        (lesson,) = kept(folder, [(name, seed)])
        return tables_of(lesson, f"{name}-{seed}", share)

    return _once(folder / f"{name}-{seed}.tables", make)


def _again(
    folder: Path, name: str, seed: int, share: NDArray[np.float64] | None, first: Trees
) -> list[Table]:
    """Of one lesson's snares as they are weighed again, kept in the folder too."""

    def make() -> list[Table]:
        (lesson,) = kept(folder, [(name, seed)])
        return tables_again(lesson, f"{name}-{seed}", share, first)

    return _once(folder / f"{name}-{seed}.again", make)


def main() -> None:
    """Fit everything, or say how well folds are told."""
    parser = argparse.ArgumentParser(prog="benchmarks.fit", description=__doc__)
    parser.add_argument(
        "folder",
        type=Path,
        nargs="?",
        default=Path(tempfile.gettempdir()) / "arkund-lessons",
        help="where lessons and what is measured of them are kept",
    )
    parser.add_argument("--seeds", type=int, default=2)
    parser.add_argument("--worlds", type=int, default=220, help="how many lessons of worlds")
    parser.add_argument(
        "--everything",
        action="store_true",
        help="learn from every source, model of mics and family of parts: the trees that ship. Without it those are "
        "fitted that the report of left-out worlds rests on",
    )
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--folds", action="store_true", help="only say how well folds are told")
    args = parser.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    close = close_lessons(args.seeds) + world_lessons(args.worlds, everything=args.everything)
    far = [*close, *afar_lessons(args.seeds)]
    parents = {path.stem: file_hash(path) for path in (FILE, SNARE_FILE, AFAR_FILE)}
    with ProcessPoolExecutor(args.processes) as pool:
        afar, given, afar_lines = _learn_from_afar(args.folder, pool, close, far)
        tables = _joined(pool.map(partial(_close, args.folder), *zip(*close, strict=True), given))
        trees = fold_trees(tables)
        lines = _said(f"{len(close)} lessons with close mics", folds_told(tables, trees))
        fold = folds_of([t.lesson for t in tables])
        first = [trees[fold.get(f"{name}-{seed}", 0)] for name, seed in close]
        again = _joined(
            pool.map(partial(_again, args.folder), *zip(*close, strict=True), given, first)
        )
        again_lines = _said("snares again", folds_told(again, fold_trees(again)))
    if args.folds:
        return
    into = FILE.parent if args.everything else TREES
    said = partial(provenance, everything=args.everything)
    write_afar(into, fitted_afar(*afar), said(far, afar_lines, parents, SEED))
    write_close(into, fitted(tables, SEED), said(close, lines, parents, SEED))
    write_again(into, fitted(again, SEED), said(close, again_lines, parents, SEED))


def _said(what: str, lines: Sequence[str]) -> list[str]:
    print("\n".join([what, *lines, ""]), flush=True)
    return list(lines)


def _joined(found: Any) -> list[Table]:
    return [table for tables in found for table in tables]


def _learn_from_afar(
    folder: Path, pool: Executor, close: Lessons, every: Lessons
) -> tuple[tuple[list[AfarTable], Any], list[NDArray[np.float64] | None], list[str]]:
    """What far mics hear with its folds, what is made of each of the ``close`` lessons by trees that did
    not learn from it, and how well folds are told."""
    found = pool.map(partial(_afar, folder), *zip(*every, strict=True))
    heard = [table for tables in found for table in tables]
    folds = in_folds(heard)
    lines = _said(f"{len(every)} lessons from afar", afar_told(heard, folds))
    pairs = {
        t.lesson: share
        for t, share in zip(heard, folds.second, strict=True)
        if t.heard_by == "pair"
    }
    return (heard, folds), [pairs.get(f"{name}-{seed}") for name, seed in close], lines


if __name__ == "__main__":
    main()
