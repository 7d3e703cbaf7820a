"""Fit what weighs an onset's evidence; see the package."""

import argparse
import pickle
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.verdict.afar import (
    AfarTable,
    AfarTrees,
    afar_tables,
    afar_told,
    fitted_afar,
    in_folds,
)
from benchmarks.verdict.fitting import Table, fitted, folds_told, tables_of, write, write_again
from benchmarks.verdict.recordings import afar_lessons, close_lessons, kept


def _once(file: Path, make: Callable[[], list[Any]]) -> list[Any]:
    """What the file holds, made first if there is none."""
    if not file.exists():
        file.write_bytes(pickle.dumps(make()))
    found: list[Any] = pickle.loads(file.read_bytes())
    return found


def _afar(folder: Path, name: str, seed: int) -> list[AfarTable]:
    """Of one lesson, kept in the folder too."""

    def make() -> list[AfarTable]:
        (lesson,) = kept(folder, [(name, seed)])
        return afar_tables(lesson, f"{name}-{seed}")

    return _once(folder / f"{name}-{seed}.afar", make)


def _close(
    folder: Path, again: bool, name: str, seed: int, share: NDArray[np.float64] | None
) -> list[Table]:
    """Of one lesson, kept in the folder too; ``share`` is what is made of it from afar."""

    def make() -> list[Table]:
        (lesson,) = kept(folder, [(name, seed)])
        return tables_of(lesson, f"{name}-{seed}", share, again=again)

    return _once(folder / f"{name}-{seed}.{'again' if again else 'tables'}", make)


def main() -> None:
    parser = argparse.ArgumentParser(prog="benchmarks.verdict", description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seeds", type=int, default=11)
    parser.add_argument(
        "--first",
        type=int,
        default=1,
        help="beyond 1: only close mics' trees, from lessons that afar's trees have not learnt from",
    )
    parser.add_argument(
        "--snares",
        action="store_true",
        help="only trees that weigh snares again; with --first beyond what the shipped trees are of",
    )
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--folds", action="store_true", help="only say how well folds are told")
    args = parser.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    close = close_lessons(args.seeds, args.first)
    with ProcessPoolExecutor(args.processes) as pool:
        afar: AfarTrees | None = None
        given: list[NDArray[np.float64] | None] = [None] * len(close)
        if args.first == 1:
            afar, given = _learn_from_afar(args, pool, close)
        told = pool.map(partial(_close, args.folder, args.snares), *zip(*close, strict=True), given)
        tables = [t for found in told for t in found]
    print(f"{len(close)} lessons with close mics, {sum(len(t.right) for t in tables)} onsets")
    print("\n".join(folds_told(tables)), flush=True)
    if args.folds:
        return
    if args.snares:
        write_again(fitted(tables))
    else:
        write(fitted(tables), afar)


def _learn_from_afar(
    args: argparse.Namespace, pool: ProcessPoolExecutor, close: list[tuple[str, int]]
) -> tuple[AfarTrees | None, list[NDArray[np.float64] | None]]:
    """Trees of what far mics hear, and what is made of each of the ``close`` lessons by trees that
    did not learn from it."""
    every = [*close, *afar_lessons(args.seeds)]
    found = pool.map(partial(_afar, args.folder), *zip(*every, strict=True))
    heard = [table for tables in found for table in tables]
    folds = in_folds(heard)
    print(f"{len(every)} lessons, {sum(len(t.rows) for t in heard)} onsets from afar")
    print("\n".join(afar_told(heard, folds)), flush=True)
    pairs = {
        t.lesson: share
        for t, share in zip(heard, folds.second, strict=True)
        if t.heard_by == "pair"
    }
    trees = None if args.folds else fitted_afar(heard, folds)
    return trees, [pairs.get(f"{name}-{seed}") for name, seed in close]


if __name__ == "__main__":
    main()
