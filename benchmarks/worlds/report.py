"""``python -m benchmarks.worlds``: hits on worlds left out, beside the plain threshold.

The trees that ship learned from every source, model of mics and family of parts. What a recording that nobody has
heard can expect is told by others (`TREES`), fitted in the same way without those that are reported on.
"""

import argparse
from collections import defaultdict
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from functools import partial
from itertools import pairwise
from pathlib import Path

import numpy as np

from arkund.core.hits.detect import detect_hits
from arkund.core.hits.weigh.verdict import use_trees
from benchmarks.worlds.ablating import figures_table, rules_table
from benchmarks.worlds.drawn import DEVELOPED_ON, LEFT_OUT, recorded, worlds
from benchmarks.worlds.scoring import (
    Ghosts,
    Judged,
    Tally,
    each,
    ghosts,
    group_of,
    plain_list,
    score,
    times_of,
)
from benchmarks.worlds.world import World

PROCESSES = 2
TREES = Path(__file__).with_name("left_out")
"""Trees that never learned from what is left out (`benchmarks.worlds.drawn`)."""

FEW_GHOSTS = 10
"""Of fewer ghosts none is the worst."""

ORDER = ("kick", "snare", "tom", "hat", "ride", "crash")


@dataclass(frozen=True)
class Row:
    """A world: by piece its row of the table, what was found, and what a plain threshold finds; every
    found hit judged; and what became of its ghosts."""

    world: World
    pieces: dict[str, tuple[str, Tally, Tally]]
    each: list[Judged]
    ghosts: Ghosts


def judged(world: World) -> Row:
    """One world."""
    recording = recorded(world)
    hits = detect_hits(recording.mics, recording.rate)
    ours = score(recording, times_of(hits))
    plain = score(recording, plain_list(recording))
    pieces = {
        piece: (group_of(recording, piece), tally, plain.pieces.get(piece, Tally()))
        for piece, tally in ours.pieces.items()
    }
    return Row(world, pieces, each(recording, hits), ghosts(recording, hits))


def table(rows: Sequence[Row]) -> str:
    """The table: pooled and worst F by kind of piece, what is missed though obvious, what is made up."""
    groups: dict[str, list[tuple[World, Tally, Tally]]] = defaultdict(list)
    made_up: dict[str, int] = defaultdict(int)
    for row in rows:
        world, pieces = row.world, row.pieces
        by_group: dict[str, tuple[Tally, Tally]] = {}
        for group, ours, plain in pieces.values():
            made_up[group] += ours.found if not ours.true and not ours.buried else 0
            a, b = by_group.get(group, (Tally(), Tally()))
            by_group[group] = (a + ours, b + plain)
        for group, (ours, plain) in by_group.items():
            groups[group].append((world, ours, plain))
    lines = [
        "| piece | F | worst | on | plain threshold | obvious missed, ours | plain | never hit: made up | buried |",
        "|---|---|---|---|---|---|---|---|---|",
    ]
    for group in sorted(
        groups, key=lambda g: (ORDER.index(g.split()[0]) if g.split()[0] in ORDER else 9, g)
    ):
        own = groups[group]
        ours = sum((t for _, t, _ in own), Tally())
        plain = sum((p for _, _, p in own), Tally())
        hit = [(w, t) for w, t, _ in own if t.true]
        worst = min(hit, key=lambda pair: pair[1].f, default=None)
        if worst is None:
            lines.append(f"| {group} | {ours.f:.3f} | | | {plain.f:.3f} | | | {made_up[group]} | |")
            continue
        missed = " | ".join(
            f"{t.obvious_missed} of {t.obvious} ({t.aside} aside)" for t in (ours, plain)
        )
        lines.append(
            f"| {group} | {ours.f:.3f} | {worst[1].f:.2f} | {worst[0].name} | {plain.f:.3f} | "
            f"{missed} | {made_up[group]} | {ours.buried} |"
        )
    return "\n".join([*lines, *_ghost_lines(rows)])


def _ghost_lines(rows: Sequence[Row]) -> list[str]:
    every = sum((row.ghosts for row in rows), Ghosts())
    snares = sum(
        tally.true for row in rows for p, (_, tally, _) in row.pieces.items() if p == "snare"
    )
    most = max((row.ghosts.made_up for row in rows), default=0)
    worst = min((row.ghosts.f for row in rows if row.ghosts.true >= FEW_GHOSTS), default=1.0)
    return [
        "",
        f"Ghosts: F {every.f:.3f} ({every.found} of {every.true}, {every.buried} buried aside), worst "
        f"{worst:.2f}; made up {every.made_up}, in {snares} hits of snares; at most {most} in a song.",
    ]


def sureness(rows: Sequence[Row]) -> str:
    """The table of confidence: of hits said to be so sure, the share that is right; and of times."""
    bounds = (0.0, 0.5, 0.7, 0.85, 0.95, 1.01)
    lines = [
        "| piece | "
        + " | ".join(f"under {b:g}" for b in bounds[1:-1])
        + " | above | Brier score | "
        "time, median ms | 99 % within ms |",
        "|---" * (len(bounds) + 3) + "|",
    ]
    groups: dict[str, list[Judged]] = defaultdict(list)
    for row in rows:
        for one in row.each:
            groups[one.group].append(one)
    for group in sorted(groups):
        own = groups[group]
        sure, right = np.array([j.confidence for j in own]), np.array([j.right for j in own])
        cells = []
        for low, high in pairwise(bounds):
            inside = (sure >= low) & (sure < high)
            cells.append(f"{right[inside].mean():.2f} ({inside.sum()})" if inside.any() else "")
        late_ms = np.array([j.late_s for j in own if j.right]) * 1000
        times = (
            [f"{np.median(late_ms):+.2f}", f"{np.percentile(np.abs(late_ms), 99):.2f}"]
            if len(late_ms)
            else ["", ""]
        )
        brier = float(np.mean((sure - right) ** 2))
        lines.append(f"| {group} | {' | '.join([*cells, f'{brier:.3f}', *times])} |")
    return "\n".join(lines)


def main() -> None:
    """Judge worlds and print their table."""
    parser = argparse.ArgumentParser(prog="benchmarks.worlds", description=__doc__)
    parser.add_argument("--count", type=int, default=120)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--developed", action="store_true", help="those that development hears")
    parser.add_argument(
        "--shipped",
        action="store_true",
        help="by the trees that ship, which have learned from every source",
    )
    parser.add_argument("--each", action="store_true", help="every world's worst pieces too")
    parser.add_argument(
        "--ablate", action="store_true", help="what each figure of evidence and each rule gains"
    )
    args = parser.parse_args()
    which = DEVELOPED_ON if args.developed else LEFT_OUT
    own = None if args.shipped or args.developed else partial(use_trees, TREES)
    with ProcessPoolExecutor(PROCESSES, initializer=own) as pool:
        if args.ablate:
            drawn = worlds(which, args.seed, args.count)
            print(f"{figures_table(pool, drawn)}\n\n{rules_table(pool, drawn)}")
            return
        rows = list(pool.map(judged, worlds(which, args.seed, args.count)))
    print(
        f"{args.count} worlds of {', '.join(which['sources'])} by {', '.join(which['models'])}, seed {args.seed}\n"
    )
    print(table(rows))
    print("\nOf hits said to be so sure, the share that is right (and how many):\n")
    print(sureness(rows))
    if args.each:
        for row in rows:
            for piece, (_, ours, plain) in row.pieces.items():
                if ours.f < 0.9 or ours.obvious_missed:
                    print(f"{row.world.name} {piece}: {ours} plain {plain.f:.2f}")
