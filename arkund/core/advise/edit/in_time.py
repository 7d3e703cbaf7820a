"""Edit: whether the hits need to be put in time, and by which rule."""

from typing import Any

import numpy as np

from arkund.core.advise.edit.timing import placements
from arkund.core.advise.finding import Change, Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.hits import played_hits
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.timing.meant import swing_of
from arkund.core.timing.quantise import best_division, share_to_move, usual_spread_ms

NAME = "timing"
SWINGS_FROM = 0.54
"""From here on a pair is played unevenly on purpose."""

LEAST_HITS = 24
WORTH = 3
"""Hits that must stray for a rule to be proposed."""

HEARD_MS = 1.0
UNCLEAR_SHARE = 0.05
PAST_SAVING = 0.4
"""Share of hits to be moved far from which on recording again is cheaper."""


def fresh_rule(study: Study, school: School) -> dict[str, Any]:
    """What a new rule starts from, read from the hits as played: the division and swing they
    are on; feel brings in only what strays from it."""
    hits, grid = played_hits(study.sheet, study.hits_of), grid_of(study.sheet)
    division = best_division(hits, grid)
    rule: dict[str, Any] = {"school": "exact", "division": division, "window_ms": 0.0}
    swing = round(swing_of(hits, grid, division), 2)
    if not division.endswith("t") and swing >= SWINGS_FROM:
        rule["swing"] = swing
    if school.timing != "exact":
        window = min(round(usual_spread_ms(hits, grid, division), 1), 60.0)
        rule |= {"school": "feel", "window_ms": window}
    return rule


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """A rule for the whole song, where nothing was put in time yet and enough strays."""
    sheet = study.sheet
    if school.timing == "untouched" or sheet.timing != type(sheet.timing)():
        return []
    hits = played_hits(sheet, study.hits_of)
    if len(hits) < LEAST_HITS:
        return []
    bars = study.grid.bars_in(sheet.frames / study.rate)
    rule = fresh_rule(study, school) | {"start_bar": 1, "bars": bars}
    patch = {"timing.rules": [rule]}
    placed = [p for p in placements(study.tried(patch)) if p.line is not None]
    ways = np.array([abs(p.shift_s) * 1000 for p in placed if p.clear])
    strays = int(np.sum(ways > HEARD_MS))
    unclear = sum(not p.clear for p in placed)
    if strays < WORTH:
        return []
    share, far = share_to_move(placed)
    widest = float(ways.max(initial=0.0))
    how = "onto the grid" if rule["school"] == "exact" else "back into the drummer's own place"
    after = f", up to {rule['window_ms']:.0f} ms left alone" if rule["window_ms"] else ""
    asked = f" {unclear} lie between two lines and need a decision." if unclear else ""
    doubtful = share >= PAST_SAVING or unclear > UNCLEAR_SHARE * len(placed)
    warn = (
        (
            f" {share:.0%} would go far, half of them over {far:.0f} ms: recording again may be "
            "cheaper."
        )
        if share >= PAST_SAVING
        else ""
    )
    return [
        Finding(
            NAME,
            "rule",
            "song",
            f"{strays} of {len(placed)} hits stray, the widest by {widest:.0f} ms. This rule brings them "
            f"{how} in {rule['division']}{after}, every mic together.{asked}{warn}",
            {
                "strays": strays,
                "events": len(placed),
                "widest_ms": round(widest, 1),
                "unclear": unclear,
            },
            0.4 if doubtful else 0.8,
            patch,
            {"strays": Change(strays, 0)},
        )
    ]


def _reads(sheet: Sheet, subject: str) -> list[Any]:
    return [sheet.timing, sheet.tempo, sheet.frames]


MODULE = Module(NAME, "edit", 1, lambda sheet: ["kit"], _reads, find)
