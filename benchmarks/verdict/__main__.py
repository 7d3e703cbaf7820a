"""Fit what weighs an onset's evidence; see the package."""

import argparse
import pickle
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

from benchmarks.verdict.fitting import Table, fitted, folds_told, tables_of, write
from benchmarks.verdict.recordings import kept, lessons


def _tables(folder: Path, name: str, seed: int) -> list[Table]:
    """Of one lesson, kept in the folder too."""
    file = folder / f"{name}-{seed}.tables"
    if not file.exists():
        (lesson,) = kept(folder, [(name, seed)])
        file.write_bytes(pickle.dumps(tables_of(lesson, f"{name}-{seed}")))
    found: list[Table] = pickle.loads(file.read_bytes())
    return found


def main() -> None:
    parser = argparse.ArgumentParser(prog="benchmarks.verdict", description=__doc__)
    parser.add_argument("folder", type=Path)
    parser.add_argument("--seeds", type=int, default=6)
    parser.add_argument("--processes", type=int, default=2)
    parser.add_argument("--folds", action="store_true", help="only say how well folds are told")
    args = parser.parse_args()
    args.folder.mkdir(parents=True, exist_ok=True)
    names, seeds = zip(*lessons(args.seeds), strict=True)
    with ProcessPoolExecutor(args.processes) as pool:
        every = [
            t for tables in pool.map(partial(_tables, args.folder), names, seeds) for t in tables
        ]
    print(f"{len(names)} lessons, {sum(len(t.right) for t in every)} onsets")
    print("\n".join(folds_told(every)))
    if not args.folds:
        write(fitted(every))


if __name__ == "__main__":
    main()
