"""Edit: which take to use where, and where to join them."""

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.finding import Change, Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.hits import take_hits
from arkund.core.graph.nodes import File, key_of
from arkund.core.hits.hit import Hit
from arkund.core.sheet.sheet import Sheet, Take
from arkund.core.timing.comp import (
    CYMBAL_CUT,
    JOIN,
    NOTHING_HIDES,
    RING_FROM_DB,
    Cell,
    Join,
    Part,
    cheapest_path,
    parts_of,
    place_join,
    score,
    warn,
)

NAME = "edit"
CYMBALS_FROM_HZ = 4000.0
FRAME_S = 0.005
WORTH_A_JOIN = 2.0
"""A path must be cheaper than the best single take by this much to be proposed."""


@dataclass(frozen=True)
class TakesGrid:
    """Parts across, takes down: cells, the path chosen now, the cheapest path, their joins."""

    parts: list[Part]
    takes: list[int]
    cells: list[list[Cell]]
    chosen: list[int]
    proposed: list[int]
    joins: list[Join]
    proposed_joins: list[Join]

    def cost(self, path: list[int]) -> float:
        """What the cells of a path cost, joins left out."""
        return sum(
            next(c.cost for c in row if c.take == t)
            for row, t in zip(self.cells, path, strict=True)
        )


def takes_grid(study: Study) -> TakesGrid:
    """Scores of all takes by section, and the paths through them."""
    grid, sheet = study.grid, study.sheet
    named = [Part(s.name, s.start_bar, s.bars) for s in sheet.sections]
    parts = parts_of(named, grid.bars_in(sheet.frames / study.rate))
    hits = {t.number: _in_song_time(study, t.number) for t in sheet.takes}
    cells = score(hits, grid, parts)
    takes = list(hits)

    def priced(number: int, before: int, after: int) -> float:
        join = join_at(study, hits, cells, parts, number, before, after)
        cut = CYMBAL_CUT if join.ring_db >= RING_FROM_DB else 0.0
        changed = _rides(cells[number - 1], before) != _rides(cells[number], after)
        return (
            JOIN + cut + (CYMBAL_CUT if changed else 0.0) + (0 if join.hidden_by else NOTHING_HIDES)
        )

    proposed = cheapest_path(cells, priced)
    chosen = path_now(sheet, parts, study)
    return TakesGrid(
        parts,
        takes,
        cells,
        chosen,
        proposed,
        joins_of(study, hits, cells, parts, chosen),
        joins_of(study, hits, cells, parts, proposed),
    )


def path_now(sheet: Sheet, parts: list[Part], study: Study) -> list[int]:
    """The take that sounds in the middle of each part."""
    if not sheet.comp:
        return [sheet.take.number] * len(parts)
    out = []
    for part in parts:
        middle = study.grid.bar_start_s(part.start_bar + part.bars / 2) * study.rate
        out.append([s.take for s in sheet.comp if s.at <= middle][-1])
    return out


def comp_of(study: Study, grid: TakesGrid, path: list[int]) -> list[dict[str, Any]]:
    """A path as the sheet keeps it: stretches that begin at their joins; empty for the first take
    throughout."""
    hits = {t.number: _in_song_time(study, t.number) for t in study.sheet.takes}
    if set(path) == {study.sheet.takes[0].number}:
        return []
    joins = joins_of(study, hits, grid.cells, grid.parts, path)
    starts = [{"take": path[0], "at": 0, "fade_ms": 2.0}]
    return starts + [
        {"take": j.after, "at": max(round(j.at_s * study.rate), 1), "fade_ms": 2.0} for j in joins
    ]


def joins_of(
    study: Study,
    hits: dict[int, list[Hit]],
    cells: list[list[Cell]],
    parts: list[Part],
    path: list[int],
) -> list[Join]:
    """The joins that a path needs, in order."""
    return [
        join_at(study, hits, cells, parts, n, path[n - 1], path[n])
        for n in range(1, len(path))
        if path[n] != path[n - 1]
    ]


def join_at(
    study: Study,
    hits: dict[int, list[Hit]],
    cells: list[list[Cell]],
    parts: list[Part],
    number: int,
    before: int,
    after: int,
) -> Join:
    """The best join between two takes at the beginning of a part."""
    border = study.grid.bar_start_s(parts[number].start_bar)
    at, hidden, ring_db, ring_s = place_join(
        hits[before],
        hits[after],
        border,
        1.05 * study.grid.beat_s,
        lambda t: _ring(study, before, t),
    )
    return Join(
        round(at, 6),
        before,
        after,
        hidden,
        round(ring_db, 1),
        round(ring_s, 2),
        warn(ring_db, ring_s, before, _rides(cells[number], after)),
    )


def _rides(row: list[Cell], take: int) -> str:
    return next(c.rides for c in row if c.take == take)


def _in_song_time(study: Study, number: int) -> list[Hit]:
    take = next(t for t in study.sheet.takes if t.number == number)
    return take_hits(study.sheet, take, study.hits_of)


def _ring(study: Study, take: int, at_s: float) -> tuple[float, float]:
    """``(dB against a usual cymbal hit, seconds it would go on)`` of what rings in a take's
    overheads just before a moment, above `CYMBALS_FROM_HZ`."""
    level = _cymbal_level_db(study, take)
    if len(level) == 0:
        return -120.0, 0.0
    at = min(max(round(at_s / FRAME_S), 30), len(level) - 2)
    now = float(np.median(level[at - 6 : at - 1]))
    usual = study.remember(("cymbals usually", take), lambda: float(np.percentile(level, 97)))
    earlier = float(np.median(level[at - 26 : at - 20]))
    fall = max((earlier - now) / (20 * FRAME_S), 12.0)  # dB a second
    return now - usual, float(np.clip((now - usual + 45.0) / fall, 0.0, 3.0))


def _cymbal_level_db(study: Study, take: int) -> NDArray[np.float64]:
    """Level of a take's overheads above `CYMBALS_FROM_HZ`, a value every `FRAME_S`, song time."""
    found: NDArray[np.float64] = study.remember(
        ("cymbals", take), lambda: _known_cymbals(study, take)
    )
    return found


def _known_cymbals(study: Study, number: int) -> NDArray[np.float64]:
    take = next(t for t in study.sheet.takes if t.number == number)
    mics = [m for m in study.with_role("overhead", "kit") if m in take.sources]
    if not mics:
        return np.zeros(0)
    sources = [(take.sources[m].sha256, take.sources[m].pick) for m in mics]
    key = key_of("cymbals", 1, study.rate, study.sheet.frames, take.offset, sources)
    return study.engine.track(key, lambda _: _measure_cymbals(study, take, mics))


def _measure_cymbals(study: Study, take: Take, mics: list[str]) -> NDArray[np.float64]:
    step = round(FRAME_S * study.rate)
    sos = scipy.signal.butter(4, CYMBALS_FROM_HZ, "highpass", fs=study.rate, output="sos")
    total = np.zeros(study.sheet.frames // step)
    for mic in mics:
        source = take.sources[mic]
        node = File(study.library.path_of(source.sha256), source.sha256, source.pick)
        sound = study.engine.read(node, take.offset, take.offset + study.sheet.frames)
        high = scipy.signal.sosfilt(sos, sound)[: len(total) * step]
        total += np.mean(np.square(high.reshape(-1, step)), axis=1)
    return 10 * np.log10(total + 1e-12)


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """The cheapest path, where it is worth its joins."""
    if len(study.takes) < 2 or study.sheet.comp:
        return []
    grid = takes_grid(study)
    single = {t: grid.cost([t] * len(grid.parts)) for t in grid.takes}
    best = min(single, key=lambda t: single[t])
    path = grid.proposed
    saved = single[grid.chosen[0]] - grid.cost(path)
    if path == grid.chosen or saved < WORTH_A_JOIN:
        return []
    why = avoided(grid, path)
    runs = [f"take {t}" for n, t in enumerate(path) if n == 0 or path[n - 1] != t]
    avoids = f" It keeps clear of {'; '.join(why[:2])}." if why else ""
    heard = next((f" {j.warning}" for j in grid.proposed_joins if j.warning), "")
    count = len(grid.proposed_joins)
    joined = f", {count} join{'s' if count > 1 else ''}" if count else " throughout"
    return [
        Finding(
            NAME,
            "comp",
            "song",
            f"{saved:.1f} points better than take {grid.chosen[0]} alone: {', '.join(runs)}{joined}."
            f"{avoids}{heard} Which take moves you is for your ears.",
            {
                "cost_now": round(single[grid.chosen[0]], 2),
                "cost_path": round(grid.cost(path), 2),
                "best_single": best,
                "joins": len(grid.proposed_joins),
                "path": path,
            },
            0.55,
            {"comp": comp_of(study, grid, path)},
            {"cost": Change(round(single[grid.chosen[0]], 2), round(grid.cost(path), 2))},
            bars=(
                max(1, study.bar_of(grid.proposed_joins[0].at_s) - 1),
                study.bar_of(grid.proposed_joins[0].at_s),
            )
            if grid.proposed_joins
            else None,
        )
    ]


def avoided(grid: TakesGrid, path: list[int]) -> list[str]:
    """Cells that a path keeps clear of because something is missing in them or another cymbal is
    ridden, with the reason."""
    return [
        f"take {cell.take}'s {part.name} from bar {part.start_bar} ({cell.reason})"
        for row, taken, part in zip(grid.cells, path, grid.parts, strict=True)
        for cell in row
        if cell.take != taken and (cell.missing or cell.rides == "other")
    ]


MODULE = Module(
    NAME,
    "edit",
    1,
    lambda sheet: ["takes"],
    lambda sheet, subject: [sheet.comp, sheet.tempo, sheet.sections],
    find,
)
