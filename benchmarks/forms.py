"""Whether a song's form is found: drawn songs of two or three parts in turn, with and without fills and crashes.

``python -m benchmarks.forms [--songs N] [--recorded N] [--seed S]`` prints, of hit lists with gaps and of recordings
whose hits were found, the borders within one bar, and of every two parts whether they are told alike or not.
"""

import argparse
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from arkund.core.hits.detect import detect_hits
from arkund.core.hits.hit import Hit, kind_of
from arkund.core.simulate.drummer import ChartSection, PlayedHit, perform
from arkund.core.timing.form import Found, find_form
from arkund.core.timing.grid import Grid
from benchmarks.recorded.patterns import LEAD_IN_S
from benchmarks.worlds.playing import Rng, beat, feel, fill, joined
from benchmarks.worlds.world import World, record

ORDERS = ("ABABCB", "AABB", "ABAB", "ABCAB", "ABACB")
LENGTHS = (4, 8, 8, 8, 16, 6)
LOST = {"kick": 0.02, "snare": 0.03, "hat": 0.1, "ride": 0.15, "crash_1": 0.5}
LOST_ELSE, LOST_GHOSTS = 0.1, 0.2
"""How often a list lacks a hit."""

SOURCES = (("zeppelin", "omnis"), ("zeppelin", "clips"))


@dataclass(frozen=True)
class Song:
    """A drawn song: its hits as they are played, tempo, the first bar and letter of each part, and its bars."""

    hits: list[PlayedHit]
    bpm: float
    starts: list[int]
    letters: list[str]
    bars: int

    @property
    def grid(self) -> Grid:
        return Grid(self.bpm, 4, 4, LEAD_IN_S)


def drawn(seed: int) -> Song:
    """Two or three parts that differ by all, by the kick alone, or by the cymbal that is ridden."""
    rng = np.random.default_rng(seed)
    count = int(rng.integers(2, 4))
    parts = _parts(rng, "ABC"[:count])
    order = [x for x in str(rng.choice(ORDERS)) if x in parts]
    chart, starts, at = [], [], 1
    for letter in order:
        bars = int(rng.choice(LENGTHS))
        ends = fill(rng, 16) if rng.random() < 0.7 else None
        first = {"crash_1": "X" + "." * 15} if rng.random() < 0.7 else None
        chart.append(ChartSection(letter, bars, joined(parts[letter]), ends, first))
        starts.append(at)
        at += bars
    bpm = float(rng.uniform(75, 170))
    return Song(perform(chart, bpm, feel(rng), LEAD_IN_S, rng), bpm, starts, order, at - 1)


def _parts(rng: Rng, letters: str) -> dict[str, dict[str, list[str]]]:
    base, out = beat(rng), {}
    for letter in letters:
        rows = beat(rng)
        if rng.random() < 0.4:
            rows = {**base, "kick": rows["kick"]}
        top = next((p for p in ("hat", "ride") if p in rows), None)
        if top and letter != "A" and rng.random() < 0.5:
            rows["ride" if top == "hat" else "hat"] = rows.pop(top)
        out[letter] = rows
    return out


def listed(song: Song, seed: int) -> list[Hit]:
    """A hit list of the song with gaps."""
    rng, out = np.random.default_rng([seed, 1]), []
    for n, played in enumerate(song.hits):
        level = 40 * np.log10(played.velocity / 112)
        kind = kind_of(level)
        lost = rng.random() < LOST.get(played.piece, LOST_ELSE)
        if not lost and not (kind == "ghost" and rng.random() < LOST_GHOSTS):
            hit = Hit(str(n), played.piece, played.time_s, played.velocity, kind, 0.9, level)
            out.append(hit)
    return out


@dataclass
class Score:
    """Borders that are right, there and found; pairs of parts that are told right, and all."""

    right: int = 0
    there: int = 0
    found: int = 0
    told: int = 0
    pairs: int = 0

    @property
    def f(self) -> float:
        return 2 * self.right / max(self.there + self.found, 1)

    @property
    def paired(self) -> float:
        return self.told / max(self.pairs, 1)

    def add(self, song: Song, parts: Sequence[Found]) -> None:
        """Count one song."""
        free = [part.first for part in parts][1:]
        self.there += len(song.starts) - 1
        self.found += len(free)
        for start in song.starts[1:]:
            near = [one for one in free if abs(one - start) <= 1]
            if near:
                free.remove(min(near, key=lambda one: abs(one - start)))
                self.right += 1
        ends = [*song.starts[1:], song.bars + 1]
        middles = [(a + b) // 2 for a, b in zip(song.starts, ends, strict=True)]
        letters = [next(p.letter for p in reversed(parts) if p.first <= m) for m in middles]
        for n in range(len(middles)):
            for m in range(n):
                alike = song.letters[n] == song.letters[m]
                self.told += alike == (letters[n] == letters[m])
                self.pairs += 1


def main() -> None:
    """Print both scores."""
    parser = argparse.ArgumentParser(prog="benchmarks.forms", description=__doc__)
    parser.add_argument("--songs", type=int, default=120)
    parser.add_argument("--recorded", type=int, default=12)
    parser.add_argument("--seed", type=int, default=1000)
    args = parser.parse_args()
    lists, heard = Score(), Score()
    for seed in range(args.seed, args.seed + args.songs):
        song = drawn(seed)
        lists.add(song, find_form(listed(song, seed), song.grid, song.bars))
    for seed in range(args.seed, args.seed + args.recorded):
        song = drawn(seed)
        source, model = SOURCES[seed % len(SOURCES)]
        made = record(World(seed, source, model, "backbeat"), song.hits)
        hits = detect_hits(made.mics, made.rate)
        heard.add(song, find_form(hits, song.grid, song.bars))
    print(
        "| what | songs | borders within a bar: F | told alike or not, right |\n|---|---|---|---|"
    )
    for what, count, score in (
        ("hit lists with gaps", args.songs, lists),
        ("recordings of a source and mics left out, hits found", args.recorded, heard),
    ):
        print(f"| {what} | {count} | {score.f:.3f} | {score.paired:.3f} |", flush=True)


if __name__ == "__main__":
    main()
