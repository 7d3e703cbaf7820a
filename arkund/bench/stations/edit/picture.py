"""Edit: every hit early or late of its line, as played and as it falls now."""

from collections import Counter
from collections.abc import Sequence
from typing import Any

import numpy as np

from arkund.bench.drawing import Bars, bars_of
from arkund.core.advise.edit.in_time import PAST_SAVING, fresh_rule
from arkund.core.advise.edit.timing import placements
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.grid import Grid
from arkund.core.timing.meant import DIVISIONS, lines_near
from arkund.core.timing.quantise import Placement, best_division, share_to_move
from arkund.core.timing.together import played_apart
from arkund.songs.facts import hits_of
from arkund.songs.findings import questions_for_the_ear, school_of_song
from arkund.songs.models import Song
from arkund.songs.moving import kick_alone_ms
from arkund.songs.rendering import grid_of
from arkund.songs.studies import study_of
from arkund.songs.timing import edits_of
from arkund.songs.wording import value_words

MOST_AT_ONCE, BARS_AROUND = 6000, 8
"""A song with more hits than this is shown some bars at a time: the loop's and these around them."""

HABIT = 8
"""More kicks than this that are moved alone are no exception any more."""

FEEL_MS = 30
"""Reach of the distributions of hits around their lines."""


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    grid, study = grid_of(sheet), study_of(sheet)
    hits, span_s = hits_of(sheet), None
    if len(hits) > MOST_AT_ONCE:
        span_s = _around(grid, bars)
        hits = [h for h in hits if span_s[0] <= h.time_s < span_s[1]][:MOST_AT_ONCE]
    placed = placements(study, span_s)
    division = sheet.timing.rules[-1].division if sheet.timing.rules else best_division(hits, grid)
    swing = sheet.timing.rules[-1].swing if sheet.timing.rules else 0.5
    times = np.array([h.time_s for h in hits])
    lines = grid.seconds_of(lines_near(grid.quarters_at(times), division, swing))
    late = (times - lines) * 1000
    shown = [
        {
            "id": h.id,
            "piece": h.piece,
            "t": h.time_s,
            "v": h.velocity,
            "kind": h.kind,
            "sure": h.confidence,
            "late_ms": round(float(ms), 1),
        }
        for h, ms in zip(hits, late, strict=True)
    ]
    moved = {m.id: m for m in edits_of(sheet).moves if m.shift_s or m.kick_s}
    for row in shown:
        if row["id"] in moved:
            row["moved_ms"] = round(moved[row["id"]].shift_s * 1000, 1)
    limit, under = kick_alone_ms(sheet)
    moved_alone = sum(1 for m in moved.values() if m.kick_s)
    return {
        "hits": shown,
        "division": division,
        "swing": round(swing * 100),
        "fresh_rule": fresh_rule(study, school_of_song(song)),
        "placement": _placement(hits, late, grid, division),
        "unclear": _unclear(placed, grid),
        "apart": _apart(placed, grid, limit),
        "asked": _asked(sheet),
        "edits": _edits(sheet, grid, span_s),
        "kick": _kick_alone(limit, under, moved_alone),
        "feel_ms": FEEL_MS,
        "saving": _saving(placed),
        "rulers": _rulers(sheet, placed, hits, grid, division),
        "summary": _summary(hits, moved, bars if span_s else None),
    }


def _kick_alone(limit_ms: float, under_db: float, alone: int) -> dict[str, Any]:
    """How far the kick's mics may follow alone, in words; what the button does, and the value it sets."""
    words = "The kick is too loud in overheads and rooms to be moved alone unheard."
    if limit_ms:
        under, far = value_words(under_db, "dB"), value_words(limit_ms, "ms")
        words = (
            f"The kick lies {under} under its own mics in overheads and rooms: moved alone by up to {far} "
            "it goes unheard."
        )
        if alone > HABIT:
            words += f" {alone} kicks are moved alone: as a habit it hollows out the kit."
    if alone:
        return {"words": words, "does": f"put {alone} kicks back", "ms": 0}
    does = "let the kick’s mics follow the snare" if limit_ms else ""
    return {"words": words, "does": does, "ms": limit_ms}


def _placement(
    hits: Sequence[Hit], late: np.ndarray, grid: Grid, division: str
) -> list[dict[str, Any]]:
    """The drummer's feel: middle and spread by piece, and the middle on each place in the beat."""
    steps = DIVISIONS[division]
    phases = np.rint(grid.quarters_at(np.array([h.time_s for h in hits])) * steps).astype(int)
    out = []
    for piece in sorted({h.piece for h in hits}):
        own = np.array([h.piece == piece for h in hits])
        low, middle, high = np.percentile(late[own], [16, 50, 84])
        by_phase = [
            round(float(np.median(late[own & (phases % round(steps) == k)])), 1)
            if np.sum(own & (phases % round(steps) == k)) >= 3
            else None
            for k in range(round(steps))
        ]
        out.append(
            {
                "piece": piece,
                "hits": int(own.sum()),
                "middle_ms": round(float(middle), 1),
                "spread_ms": round(float(high - low) / 2, 1),
                "low_ms": round(float(low), 1),
                "high_ms": round(float(high), 1),
                "phases": by_phase,
                "counts": [
                    _counts(late[own & (phases % round(steps) == k)]) for k in range(round(steps))
                ],
            }
        )
    return out


def _counts(late_ms: np.ndarray) -> list[int]:
    """How many hits fall how early or late, in bins of 3 ms; what lies further off at the ends."""
    held = np.clip(late_ms, -FEEL_MS + 0.01, FEEL_MS - 0.01)
    return np.histogram(held, 2 * FEEL_MS // 3, (-FEEL_MS, FEEL_MS))[0].tolist()


def _unclear(placed: list[Placement], grid: Grid) -> list[dict[str, Any]]:
    """Hits between two lines: what they could have been meant on, and the words to ask with."""
    out = []
    for p in placed:
        if p.clear or p.line is None:
            continue
        line_s = float(grid.seconds_of(np.array([p.line]))[0])
        off = (p.from_s - line_s) * 1000
        why = "would run into its neighbour" if p.rule == "too close" else "between two lines"
        out.append(
            {
                "id": p.event.lead.id,
                "t": p.from_s,
                "line": p.line,
                "bar": int(grid.bar_at(p.from_s)),
                "words": f"{label(p.event.lead.piece)} at {grid.place(p.from_s)}: {why}, "
                f"{abs(off):.0f} ms {'after' if off > 0 else 'before'} {grid.place(line_s)}",
            }
        )
    return out


def _apart(placed: list[Placement], grid: Grid, limit_ms: float) -> list[dict[str, Any]]:
    remedies = {
        "alone": f"the kick's own mics can follow by up to {limit_ms:.1f} ms"
        if limit_ms
        else "replace one of the two",
        "midpoint": "cannot be parted: put the middle on the line, or replace the hit",
        "cut": "two shells at once: they move together",
    }
    return [
        {
            "id": a.event.lead.id,
            "t": a.event.lead.time_s,
            "gap_ms": a.gap_ms,
            "kind": a.kind,
            "remedy": a.remedy,
            "bar": int(grid.bar_at(a.event.lead.time_s)),
            "words": f"{grid.place(a.event.lead.time_s)} {a.kind}: {label(a.other.piece)} "
            f"{abs(a.gap_ms):.1f} ms {'after' if a.gap_ms > 0 else 'before'}; "
            f"{remedies[a.remedy]}",
        }
        for a in sorted(played_apart([p.event for p in placed]), key=lambda a: -abs(a.gap_ms))
    ]


def _asked(sheet: Sheet) -> list[dict[str, Any]]:
    """The loudest moments of drums without a hit, for an ear to judge."""
    return [
        {
            "t": place["time_s"],
            "piece": one["piece"],
            "mic": one["mic"],
            "words": f"{label(one['piece'])} {place['time_s']:.2f} s, "
            f"{place['over_bleed_db']:.1f} dB over bleed",
        }
        for one in questions_for_the_ear(study_of(sheet))
        for place in one["places"]
    ]


def _around(grid: Grid, bars: Bars) -> tuple[float, float]:
    """From `BARS_AROUND` bars before some bars to as many after them, in s."""
    first, last = max(bars[0] - BARS_AROUND, 1), bars[1] + BARS_AROUND + 1
    begin, end = grid.seconds_of(
        np.array([grid.quarters_of_bar(bar) for bar in (first, last)], np.float64)
    )
    return float(begin) if first > 1 else -np.inf, float(end)


def _edits(sheet: Sheet, grid: Grid, span_s: tuple[float, float] | None) -> list[dict[str, Any]]:
    first, last = span_s or (-np.inf, np.inf)
    return [
        {
            "id": m.id,
            "t": m.to_s,
            "bar": int(grid.bar_at(m.to_s)),
            "words": f"{grid.place(m.from_s)} {' + '.join(label(p) for p in m.pieces)}: "
            f"{m.shift_s * 1000:+.1f} ms, {m.rule or 'carried along'}"
            + (f"; kick mics alone {m.kick_s * 1000:+.1f} ms" if m.kick_s else ""),
        }
        for m in edits_of(sheet).moves
        if (m.shift_s or m.kick_s) and first <= m.to_s < last
    ]


def _rulers(
    sheet: Sheet, placed: list[Placement], hits: Sequence[Hit], grid: Grid, division: str
) -> dict[str, Any]:
    """How far hits are from their places, and where every second line is played."""
    off = np.array([abs(p.target_s - p.from_s) * 1000 for p in placed if p.line is not None])
    pair = 2 / DIVISIONS[division]
    phase = (grid.quarters_at(np.array([h.time_s for h in hits])) % pair) / pair
    out = {}
    for n in range(len(sheet.timing.rules)):
        out[f"timing.rules.{n}.window_ms"] = {"bars": bars_of(off, 0, 60, 60, "own")}
        out[f"timing.rules.{n}.swing"] = {
            "bars": bars_of(phase[(phase >= 0.5) & (phase <= 0.75)], 0.5, 0.75, 50, "own")
        }
    return out


def _saving(placed: list[Placement]) -> str:
    share, way = share_to_move(placed)
    if share < PAST_SAVING:
        return ""
    return (
        f"{share:.0%} of the hits stray by more than 12 ms, half of them by over {way:.0f} "
        "ms: recording again is cheaper than mending this take."
    )


def _summary(hits: Sequence[Hit], moved: dict[str, Any], bars: Bars | None) -> str:
    rules = Counter(m.rule for m in moved.values())
    how = ", ".join(f"{n} by {rule or 'other rules'}" for rule, n in rules.most_common())
    pieces = len({h.piece for h in hits})
    if bars is not None:
        return (
            f"{len(hits)} hits around bars {bars[0]}–{bars[1]}; the song has too many to show at once, "
            "and all figures are of these."
        )
    return f"{len(hits)} hits on {pieces} pieces" + (f"; moved: {how}." if how else ".")
