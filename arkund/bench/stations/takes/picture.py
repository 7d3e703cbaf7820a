"""Edit, takes: sections across, takes down, the path through them and its joins."""

from dataclasses import asdict
from typing import Any

from arkund.bench.drawing import Bars
from arkund.core.advise.edit.comp import TakesGrid, avoided, takes_grid
from arkund.core.kit.roles import label
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.timing import Copy
from arkund.core.timing.comp import Join
from arkund.songs.findings import study_of_song
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of

LATER_S = 0.005
"""A cut lies so little before the line or hit that it was made for."""


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    found = takes_grid(study_of_song(song, sheet))
    return {
        "parts": [asdict(p) for p in found.parts],
        "takes": found.takes,
        "cells": [[asdict(c) for c in row] for row in found.cells],
        "chosen": found.chosen,
        "proposed": found.proposed,
        "joins": _joins(found, sheet),
        "copies": [
            {
                "label": c.label,
                "place": _place(c, sheet),
                "hear": hear_around(sheet, (c.at + c.frames) / sheet.rate, c.at / sheet.rate),
                "fade_ms": c.fade_ms,
            }
            for c in sheet.copies
        ],
        "cost": {
            "chosen": round(found.cost(found.chosen), 1),
            "proposed": round(found.cost(found.proposed), 1),
        },
        "avoids": avoided(found, found.proposed),
        "rulers": {},
    }


def _place(copy: Copy, sheet: Sheet) -> str:
    """The bar at whose line a copy of bars begins; bar and beat of a hit."""
    grid, at_s = grid_of(sheet), copy.at / sheet.rate
    if copy.frames / sheet.rate > 2 * grid.beat_s:
        return f"bar {round(grid.bar_at(at_s))}"
    return grid.place(at_s + LATER_S)


def hear_around(sheet: Sheet, last_s: float, first_s: float | None = None) -> list[float]:
    """Seconds from two beats before a place, or the first of two, to two beats after it."""
    beat = grid_of(sheet).beat_s
    first = last_s if first_s is None else first_s
    end = sheet.frames / sheet.rate
    return [round(max(first - 2 * beat, 0.0), 4), round(min(last_s + 2 * beat, end), 4)]


def _joins(found: TakesGrid, sheet: Sheet) -> list[dict[str, Any]]:
    """The joins as they are kept, each with what is known of its place."""
    out = []
    for number, stretch in enumerate(sheet.comp):
        if not number:
            continue
        at_s = stretch.at / sheet.rate
        known = next((j for j in found.joins if abs(j.at_s - at_s) < LATER_S), None)
        join = known or Join(at_s, sheet.comp[number - 1].take, stretch.take, "", -120.0, 0.0, "")
        out.append(
            _shown(join, found, sheet)
            | {
                "number": number,
                "fade_ms": stretch.fade_ms,
                "shape": stretch.shape,
                "hear": hear_around(sheet, at_s),
            }
        )
    return out


def _shown(join: Join, found: TakesGrid, sheet: Sheet) -> dict[str, Any]:
    grid = grid_of(sheet)
    bar = max(1, round(grid.bar_at(join.at_s)))
    # The part whose border this join serves.
    part = min(range(len(found.parts)), key=lambda n: abs(found.parts[n].start_bar - bar))
    hidden = f"before a {label(join.hidden_by)}" if join.hidden_by else "nothing hides it"
    return asdict(join) | {
        "part": part,
        "bar": bar,
        "place": grid.place(join.at_s),
        "words": f"take {join.before} to {join.after} at {grid.place(join.at_s)}, {hidden}",
    }
