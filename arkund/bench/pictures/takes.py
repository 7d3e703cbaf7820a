"""Edit, takes: sections across, takes down, the path through them and its joins."""

from dataclasses import asdict
from typing import Any

from arkund.bench.pictures.common import Bars
from arkund.core.advise.comp import TakesGrid, takes_grid
from arkund.core.kit.roles import label
from arkund.core.mix.sheet import Sheet
from arkund.core.timing.comp import Join
from arkund.songs.findings import study_of_song
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    found = takes_grid(study_of_song(song, sheet))
    return {
        "parts": [asdict(p) for p in found.parts],
        "takes": found.takes,
        "cells": [[asdict(c) for c in row] for row in found.cells],
        "chosen": found.chosen,
        "proposed": found.proposed,
        "joins": [_shown(j, found, sheet) for j in found.joins],
        "cost": {"chosen": round(found.cost(found.chosen), 1),
                 "proposed": round(found.cost(found.proposed), 1)},
        "rulers": {},
    }  # fmt: skip


def _shown(join: Join, found: TakesGrid, sheet: Sheet) -> dict[str, Any]:
    grid = grid_of(sheet)
    bar = max(1, round(grid.bar_at(join.at_s)))
    # The part whose border this join serves.
    part = min(range(len(found.parts)), key=lambda n: abs(found.parts[n].start_bar - bar))
    hidden = f"before a {label(join.hidden_by)}" if join.hidden_by else "nothing hides it"
    return asdict(join) | {
        "part": part, "bar": bar, "place": grid.place(join.at_s),
        "words": f"take {join.before} to {join.after} at {grid.place(join.at_s)}, {hidden}",
    }  # fmt: skip
