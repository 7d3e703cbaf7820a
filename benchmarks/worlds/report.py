"""``python -m benchmarks.worlds``: hits on worlds left out, beside the plain threshold."""

import argparse
import pickle
import tempfile
from collections import defaultdict
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

from arkund.core.hits.detect import detect_hits
from benchmarks.recorded.recording import Recording
from benchmarks.worlds.playing import FAMILIES
from benchmarks.worlds.scoring import Scores, Tally, group_of, plain_list, score, times_of
from benchmarks.worlds.world import MODELS, World, record

PROCESSES = 2
DEVELOPED_ON: dict[str, tuple[str, ...]] = {
    "sources": ("fluid", "tim", "freepats"),
    "models": ("cardioids", "condensers"),
}
LEFT_OUT: dict[str, tuple[str, ...]] = {
    "sources": ("pearl", "zeppelin"),
    "models": ("omnis", "clips"),
}
"""Sources and mics' models that development never heard. (Families of parts are drawn anew by seed.)"""

ORDER = ("kick", "snare", "tom", "hat", "ride", "crash")


def worlds(which: dict[str, tuple[str, ...]], seed: int, count: int) -> list[World]:
    """``count`` worlds, families, sources and models in turn."""
    families = list(FAMILIES)
    return [
        World(
            seed + n,
            which["sources"][n % len(which["sources"])],
            which["models"][(n // 2) % len(which["models"])],
            families[n % len(families)],
        )
        for n in range(count)
    ]


def recorded(world: World) -> Recording:
    """The recording of a world, kept in the machine's temporary folder."""
    folder = Path(tempfile.gettempdir()) / "arkund-worlds"
    folder.mkdir(exist_ok=True)
    path = folder / f"{world.name.replace('/', '-')}.recording"
    if path.exists():
        found: Recording = pickle.loads(path.read_bytes())
        return found
    made = record(world)
    part = path.with_suffix(".part")
    part.write_bytes(pickle.dumps(made, protocol=5))
    part.replace(path)
    return made


Row = tuple[World, dict[str, tuple[str, Tally, Tally]]]
"""A world, and by piece its row of the table, what was found, and what a plain threshold finds."""


def judged(world: World) -> Row:
    """One world."""
    recording = recorded(world)
    ours = score(recording, times_of(detect_hits(recording.mics, recording.rate)))
    plain = score(recording, plain_list(recording))
    return world, {
        piece: (group_of(recording, piece), tally, plain.pieces.get(piece, Tally()))
        for piece, tally in ours.pieces.items()
    }


def table(rows: Sequence[Row]) -> str:
    """The table: pooled and worst F by kind of piece, what is missed though obvious, what is made up."""
    groups: dict[str, list[tuple[World, Tally, Tally]]] = defaultdict(list)
    made_up: dict[str, int] = defaultdict(int)
    for world, pieces in rows:
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
        missed = " | ".join(f"{t.obvious_missed} of {t.obvious}" for t in (ours, plain))
        lines.append(
            f"| {group} | {ours.f:.3f} | {worst[1].f:.2f} | {worst[0].name} | {plain.f:.3f} | "
            f"{missed} | {made_up[group]} | {ours.buried} |"
        )
    return "\n".join(lines)


def main() -> None:
    """Judge worlds and print their table."""
    parser = argparse.ArgumentParser(prog="benchmarks.worlds", description=__doc__)
    parser.add_argument("--count", type=int, default=120)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--developed", action="store_true", help="those that development hears")
    parser.add_argument("--each", action="store_true", help="every world's worst pieces too")
    args = parser.parse_args()
    which = DEVELOPED_ON if args.developed else LEFT_OUT
    with ProcessPoolExecutor(PROCESSES) as pool:
        rows = list(pool.map(judged, worlds(which, args.seed, args.count)))
    print(
        f"{args.count} worlds of {', '.join(which['sources'])} by {', '.join(which['models'])}, seed {args.seed}\n"
    )
    print(table(rows))
    if args.each:
        for world, pieces in rows:
            for piece, (_, ours, plain) in pieces.items():
                if ours.f < 0.9 or ours.obvious_missed:
                    print(f"{world.name} {piece}: {ours} plain {plain.f:.2f}")


assert set(LEFT_OUT["models"]) | set(DEVELOPED_ON["models"]) == set(MODELS)
__all__ = ["Scores", "judged", "recorded", "table", "worlds"]
