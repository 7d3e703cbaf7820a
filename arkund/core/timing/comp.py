"""Takes against each other, section by section: scores, the cheapest path, places to join.

A cell is one take's playing of one section. What a cell costs is how widely it strays from the
drummer's own placement, how unevenly it is struck, what it leaves out or adds against the other
takes, and whether it rides another cymbal than they do. Going from one take to another costs
more where nothing hides the join or a cymbal is cut off. The path of least cost is found by
dynamic programming (Bellman, 1957).
"""

from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.confidence import LIKELY
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, label, piece_family
from arkund.core.timing.grid import Grid

SAME_HIT_S = 0.06
COMMON_S = 0.02
"""Two takes share a hit that can hide a join when it falls within this of each other."""

RIDDEN_PER_BAR = 1.5
AHEAD_S = 0.004
"""A join lies so much before the hit that hides it, earlier than any mic hears it."""

LEAST_SURE = LIKELY
EARLY_BEATS = 0.1
PER_MISSING, PER_EXTRA, ODD_CYMBAL = 3.0, 1.0, 2.0
PER_MS, PER_DB = 0.25, 0.33
JOIN, CYMBAL_CUT, NOTHING_HIDES = 0.5, 2.5, 1.5
RING_FROM_DB = -18.0
"""A cymbal this much under its usual hits is still heard when it is cut."""


@dataclass(frozen=True)
class Part:
    """A named run of bars to choose a take for."""

    name: str
    start_bar: int
    bars: int


@dataclass(frozen=True)
class Cell:
    """One take's playing of one part. ``spread_ms`` is how widely its hits stray from each
    piece's usual place, ``evenness_db`` how far its loud hits differ in level; ``missing`` and
    ``extra`` count hits against the other takes; ``rides`` is ``hat``, ``other`` or empty;
    ``marks`` are ``(share of the part, ms off, piece)`` for drawing."""

    take: int
    spread_ms: float
    evenness_db: float
    missing: int
    extra: int
    rides: str
    cost: float
    reason: str
    marks: tuple[tuple[float, float, str], ...]


@dataclass(frozen=True)
class Join:
    """Where one take gives way to another: seconds in the song, what hides it, how loud a cymbal
    still rings there (dB against its hits), for how long it would have gone on, and a word of
    warning where that is heard."""

    at_s: float
    before: int
    after: int
    hidden_by: str
    ring_db: float
    ring_s: float
    warning: str


def parts_of(sections: Sequence[Part], bars: int) -> list[Part]:
    """The song's sections, with eight bars at a time where none are named."""
    if sections:
        return sorted(sections, key=lambda p: p.start_bar)
    return [
        Part(f"bars {b}–{min(b + 7, bars)}", b, min(8, bars - b + 1)) for b in range(1, bars + 1, 8)
    ]


def subdivision(times_s: NDArray[np.float64], grid: Grid) -> int:
    """Steps to the beat on which the hits ``(hits,)`` fall: 4, or 3 where triplets fit better."""
    if len(times_s) == 0:
        return 4
    beats = (times_s - grid.first_downbeat_s) / grid.beat_s

    def off(steps: int) -> float:
        places = beats * steps
        return float(np.median(np.abs(places - np.rint(places))) / steps)

    return 3 if off(3) < 0.8 * off(4) else 4


def deviations_ms(times_s: NDArray[np.float64], grid: Grid, steps: int) -> NDArray[np.float64]:
    """How late each hit ``(hits,)`` is against its nearest grid line, in ms."""
    step = grid.beat_s / steps
    places = (times_s - grid.first_downbeat_s) / step
    return (places - np.rint(places)) * step * 1000


def score(
    takes: Mapping[int, Sequence[Hit]], grid: Grid, parts: Sequence[Part]
) -> list[list[Cell]]:
    """Cells by part, then by take in the order given. ``takes`` are hit lists in the song's time."""
    sure = {n: [h for h in hits if h.confidence >= LEAST_SURE] for n, hits in takes.items()}
    everything = np.array([h.time_s for hits in sure.values() for h in hits if h.kind != "ghost"])
    steps = subdivision(everything, grid)
    habit = _habits(sure, grid, steps)
    rows = []
    for part in parts:
        # A little early, so that a first hit played ahead of the beat counts here.
        start = grid.bar_start_s(part.start_bar) - EARLY_BEATS * grid.beat_s
        stop = grid.bar_start_s(part.start_bar + part.bars) - EARLY_BEATS * grid.beat_s
        inside = {n: [h for h in hits if start <= h.time_s < stop] for n, hits in sure.items()}
        rides = {n: _ridden(hits, part.bars) for n, hits in inside.items()}
        usual = Counter(rides.values()).most_common(1)[0][0]
        rows.append(
            [_cell(n, inside, grid, steps, habit, rides, usual, (start, stop)) for n in takes]
        )
    return rows


def _habits(takes: Mapping[int, Sequence[Hit]], grid: Grid, steps: int) -> dict[str, float]:
    """Where the drummer usually places each piece, in ms off the grid, over all takes."""
    by_piece: dict[str, list[float]] = {}
    for hits in takes.values():
        for h in hits:
            by_piece.setdefault(h.piece, []).append(h.time_s)
    return {
        p: float(np.median(deviations_ms(np.array(t), grid, steps))) for p, t in by_piece.items()
    }


def _ridden(hits: Sequence[Hit], bars: int) -> str:
    """``hat`` where the hat is played on, ``other`` where it rests while the kit plays."""
    hat = sum(piece_family(h.piece) == "hat" for h in hits) / max(bars, 1)
    shells = sum(is_shell(h.piece) for h in hits) / max(bars, 1)
    if hat >= RIDDEN_PER_BAR:
        return "hat"
    return "other" if shells >= 1 else ""


def _cell(
    take: int,
    inside: Mapping[int, Sequence[Hit]],
    grid: Grid,
    steps: int,
    habit: Mapping[str, float],
    rides: Mapping[int, str],
    usual: str,
    span: tuple[float, float],
) -> Cell:
    own = [h for h in inside[take] if h.kind != "ghost"]
    times = np.array([h.time_s for h in own])
    off = deviations_ms(times, grid, steps) if len(own) else np.zeros(0)
    centred = off - np.array([habit[h.piece] for h in own]) if own else off
    spread = float(1.4826 * np.median(np.abs(centred))) if len(centred) else 0.0
    evenness = _evenness_db(own)
    others = [hits for n, hits in inside.items() if n != take]
    missing = _missing(own, others)
    extra = _extra(own, others)
    odd = rides[take] != usual and len(inside) > 2
    cost = (
        PER_MS * spread
        + PER_DB * evenness
        + PER_MISSING * len(missing)
        + PER_EXTRA * len(extra)
        + (ODD_CYMBAL if odd else 0.0)
    )
    said = [f"±{spread:.1f} ms", f"{evenness:.1f} dB uneven"]
    if missing:
        said.append(
            f"{label(missing[0].piece)} dropped"
            + (f" and {len(missing) - 1} more" if missing[1:] else "")
        )
    if extra:
        said.append(f"{len(extra)} hits of its own")
    if odd:
        said.append(
            "hat left, another cymbal ridden" if rides[take] == "other" else "rides the hat"
        )
    start, stop = span
    marks = tuple(
        (round((h.time_s - start) / (stop - start), 4), round(float(d), 1), h.piece)
        for h, d in zip(own, centred, strict=True)
    )
    return Cell(
        take,
        round(spread, 2),
        round(evenness, 2),
        len(missing),
        len(extra),
        rides[take],
        round(cost, 2),
        ", ".join(said),
        marks,
    )


def _evenness_db(hits: Sequence[Hit]) -> float:
    """Spread of the levels of accents and plain hits of kick and snare, averaged, in dB."""
    spreads = []
    for family in ("kick", "snare"):
        levels = np.array([h.level_db for h in hits if piece_family(h.piece) == family])
        if len(levels) >= 4:
            spreads.append(float(np.std(levels)))
    return float(np.mean(spreads)) if spreads else 0.0


def _played_by(hits: Sequence[Hit], hit: Hit) -> bool:
    near = _between(hits, hit.time_s - SAME_HIT_S, hit.time_s + SAME_HIT_S)
    return any(h.piece == hit.piece for h in near)


def _missing(own: Sequence[Hit], others: Sequence[Sequence[Hit]]) -> list[Hit]:
    """Shell hits that every other take plays (two at least) and this one does not."""
    if len(others) < 2:
        return []
    loud = [h for h in others[0] if is_shell(h.piece) and h.kind != "ghost"]
    return [
        h
        for h in loud
        if not _played_by(own, h) and all(_played_by(rest, h) for rest in others[1:])
    ]


def _extra(own: Sequence[Hit], others: Sequence[Sequence[Hit]]) -> list[Hit]:
    """Shell hits that no other take plays."""
    if not others:
        return []
    return [h for h in own if is_shell(h.piece) and not any(_played_by(o, h) for o in others)]


def cheapest_path(
    cells: Sequence[Sequence[Cell]], join_cost: Callable[[int, int, int], float]
) -> list[int]:
    """The take for each part, of least total cost. ``join_cost(part, before, after)`` prices going
    from one take to another at a part's beginning; staying is free."""
    if not cells:
        return []
    takes = [c.take for c in cells[0]]
    total = np.array([c.cost for c in cells[0]])
    back: list[NDArray[np.int64]] = []
    for number, row in enumerate(cells[1:], 1):
        prices = np.array(
            [[0.0 if a == b else join_cost(number, a, b) for a in takes] for b in takes]
        )
        ways = total[None, :] + prices
        back.append(np.argmin(ways, axis=1))
        total = ways.min(axis=1) + np.array([c.cost for c in row])
    at = int(np.argmin(total))
    path = [at]
    for choice in reversed(back):
        at = int(choice[at])
        path.append(at)
    return [takes[i] for i in reversed(path)]


def place_join(
    before: Sequence[Hit],
    after: Sequence[Hit],
    border_s: float,
    reach_s: float,
    ring: Callable[[float], tuple[float, float]],
) -> tuple[float, str, float, float]:
    """``(seconds, piece that hides it, ring in dB, ring in s)`` of the best join near a border.

    Candidates are hits that both takes play within `COMMON_S` of each other and ``reach_s`` of
    the border; the strongest is taken, a ringing cymbal counting against it dB for dB and distance
    a little. Without one the border itself, `AHEAD_S` early, is taken. ``ring`` gives the level
    and the length of what rings in the outgoing take at a moment.
    """
    best: tuple[float, float, str, float, float] | None = None
    there = _between(after, border_s - reach_s - COMMON_S, border_s + reach_s + COMMON_S)
    for h in _between(before, border_s - reach_s, border_s + reach_s):
        if h.kind == "ghost":
            continue
        partner = next(
            (o for o in there if o.piece == h.piece and abs(o.time_s - h.time_s) < COMMON_S), None
        )
        if partner is None:
            continue
        at = min(h.time_s, partner.time_s) - AHEAD_S
        level, seconds = ring(at)
        weight = {"kick": 0.0, "snare": 3.0, "crash": 4.0, "tom": 1.0}.get(
            piece_family(h.piece), -8.0
        )
        worth = (
            min(h.level_db, partner.level_db)
            + weight
            - max(level - RING_FROM_DB, 0.0)
            - 8.0 * abs(h.time_s - border_s) / reach_s
        )
        if best is None or worth > best[0]:
            best = (worth, at, h.piece, level, seconds)
    if best is None:
        at = border_s - AHEAD_S
        return (at, "", *ring(at))
    return best[1:]


def _between(hits: Sequence[Hit], first_s: float, last_s: float) -> Sequence[Hit]:
    """Those of the hits, in order of time, that fall between two moments."""
    low = bisect_left(hits, first_s, key=lambda h: h.time_s)
    return hits[low : bisect_right(hits, last_s, key=lambda h: h.time_s)]


def warn(ring_db: float, ring_s: float, take: int, rides_after: str) -> str:
    """A sentence about a cymbal that a join cuts off; empty where none is heard."""
    if ring_db < RING_FROM_DB:
        return ""
    into = "a hat" if rides_after == "hat" else "another cymbal" if rides_after else "silence"
    return f"A cymbal rings out of take {take} into {into}: heard for about {ring_s:.1f} s."
