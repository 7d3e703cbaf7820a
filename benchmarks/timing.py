"""How exactly takes are put in time: residual against truth, seams, delay between mics.

Run on its own (`python -m benchmarks.timing [seeds]`) or as part of `make accuracy`.
"""

import itertools
import secrets
import sys
from typing import Any, NamedTuple, cast

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.takes import align_take
from arkund.core.graph.joining import Moved
from arkund.core.graph.nodes import Node
from arkund.core.hits.detect import detect_hits
from arkund.core.hits.hit import Hit
from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.session import Session, simulate
from arkund.core.timing.grid import Grid
from arkund.core.timing.meant import lines_near
from arkund.core.timing.moves import ALL, EditList, edit_list, moved_hits
from arkund.core.timing.quantise import Rule, Wish, best_division, place_events
from arkund.core.timing.stretch import Slice, seam_ratio, stands_out
from arkund.core.timing.together import TOGETHER_S

Pool = dict[str, list[Any]]


class Seam(NamedTuple):
    """How one end of a seam stands out (`seam_ratio`), and how the source does in the same places."""

    ratio: float
    source: float


class InMemory:
    """Reads a sound as an engine would: silence outside."""

    def __init__(self, sound: NDArray[np.float32], rate: int) -> None:
        self.sound, self.rate = sound, rate

    def read(self, node: object, start: int, stop: int) -> NDArray[np.float32]:
        out = np.zeros((stop - start, *self.sound.shape[1:]), np.float32)
        low, high = max(start, 0), min(stop, len(self.sound))
        if low < high:
            out[low - start : high - start] = self.sound[low:high]
        return out


def pool_timing(session: Session, hits: list[Hit], pool: Pool) -> None:
    """Put a take in time exactly, at full strength, and pool what is left against truth."""
    truth, rate = session.truth, session.rate
    grid = Grid(truth["tempo_bpm"], first_downbeat_s=truth["first_downbeat_s"])
    bars = grid.bars_in(truth["frames"] / rate)
    division = best_division(hits, grid)
    placed = place_events(hits, grid, [Rule(1, bars, "exact", division)], Wish({}, {}))
    near = [s for m, s in session.mics.items() if not m.startswith(("over", "room"))]
    far = [s for m, s in session.mics.items() if m.startswith(("over", "room"))]
    guide = InMemory(
        np.stack([np.sum(near, axis=0), np.sum(far, axis=0)], 1).astype(np.float32), rate
    )
    edits = edit_list(placed, {ALL: lambda a, b: guide.read(None, a, b)}, rate, truth["frames"])
    assert edits is not None
    pool["quantised unclear"].append((sum(not p.clear for p in placed), len(placed)))
    true = [
        Hit(str(n), h["piece"], h["time_s"], 100, "plain", 1.0, 0.0)
        for n, h in enumerate(truth["hits"])
    ]
    times = np.array([h.time_s for h in true])
    lead = np.array([np.sum(np.abs(times - t) < TOGETHER_S) == 1 for t in times])
    after = np.array([h.time_s for h in moved_hits(true, edits, rate)])[lead]
    lines = grid.seconds_of(lines_near(grid.quarters_at(after), division))
    pool["quantised residual"] += list(np.abs(after - lines) * 1000)
    slices = edits.tracks[ALL]
    pool["delay after edits"] += _delays_changed(session, hits, edits)
    for mic in ("snare_top", "tom_1", "overhead_l", "room_l"):
        if mic in session.mics:
            pool["seams"] += _seams(session.mics[mic], slices, rate)


def _delays_changed(session: Session, hits: list[Hit], edits: EditList) -> list[float]:
    """By how many samples the delay between two mics of a piece differs in the edited sound from
    that in the source, both measured, where both are sure."""
    rate = session.rate
    edited = {m: _edited(s, edits.tracks[ALL], rate) for m, s in session.mics.items()}
    after = {
        (p.piece, p.mic, p.reference): p
        for p in align_take(edited, moved_hits(hits, edits, rate), rate)
    }
    out = []
    for p in align_take(session.mics, hits, rate):
        now = after.get((p.piece, p.mic, p.reference))
        if p.sure and now is not None and now.sure:
            out.append(abs(now.delay_samples - p.delay_samples))
    return out


def _edited(
    sound: NDArray[np.float32], slices: tuple[Slice, ...], rate: int
) -> NDArray[np.float32]:
    node = Moved(
        cast(Node, None),
        "",
        tuple(s.at for s in slices),
        tuple(s.offset for s in slices),
        tuple(s.fade for s in slices),
    )
    return node.render(InMemory(sound, rate), 0, len(sound))  # type: ignore[arg-type]


def _seams(sound: NDArray[np.float32], slices: tuple[Slice, ...], rate: int) -> list[Seam]:
    edited = _edited(sound, slices, rate)
    out = []
    for before, s in itertools.pairwise(slices):
        for at in (s.at, s.at - s.fade):
            own = max(seam_ratio(sound, at + x.offset, rate) for x in (before, s))
            out.append(Seam(seam_ratio(edited, at, rate), own))
    return out


def rows(pool: Pool) -> list[tuple[str, str, str, bool]]:
    """Lines of the accuracy table."""
    left = np.array(pool["quantised residual"])
    median, worst = float(np.median(left)), float(np.percentile(left, 99))
    over = sum(stands_out(s.ratio, s.source) for s in pool["seams"])
    ticks = sum(stands_out(s.ratio, 0.0) for s in pool["seams"]) - over
    changed = pool["delay after edits"]
    unclear, events = (sum(c) for c in zip(*pool["quantised unclear"], strict=True))
    return [
        (
            "quantised to 100 %, leading hits: residual, median",
            f"{median:.2f} ms",
            "≤ 0.5 ms",
            median <= 0.5,
        ),
        ("… 99th percentile", f"{worst:.2f} ms of {len(left)}", "≤ 3 ms", worst <= 3),
        (
            "seams that stand out by more than 1.5, and more than the source does there",
            f"{over} of {len(pool['seams'])} ({ticks} at a tick of the source's own)",
            "0",
            over == 0,
        ),
        (
            "delay between mics after edits, largest change",
            f"{max(changed):.2f} samples of {len(changed)} pairs",
            "≤ 1",
            max(changed) <= 1,
        ),
        ("hits between two lines, asked about", f"{unclear} of {events}", "–", True),
    ]


def main() -> None:
    seeds = [int(a) for a in sys.argv[1:]] or [secrets.randbelow(10**6) for _ in range(5)]
    pool: Pool = {
        "quantised residual": [],
        "quantised unclear": [],
        "seams": [],
        "delay after edits": [],
    }
    for preset in PRESETS:
        for seed in seeds:
            session = simulate(preset, seed)
            pool_timing(session, detect_hits(session.mics, session.rate), pool)
    print(f"seeds: {', '.join(map(str, seeds))}")
    for row in rows(pool):
        print("|", " | ".join(str(part) for part in row), "|")


if __name__ == "__main__":
    main()
