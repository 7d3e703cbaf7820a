"""The tempo map between the sheet, which keeps it, and the grid, which reckons with it."""

from typing import TYPE_CHECKING

from arkund.core.timing.grid import Change, Grid

if TYPE_CHECKING:
    from arkund.core.sheet.sheet import Sheet, Tempo


def grid_of(sheet: "Sheet") -> Grid:
    """The sheet's tempo map."""
    t = sheet.tempo
    changes = tuple(Change(c.bar, c.bpm, c.beats, c.unit) for c in t.changes)
    return Grid(t.bpm, t.beats, t.unit, t.first_downbeat_s, changes)


def tempo_of(grid: Grid) -> "Tempo":
    """A tempo map as the sheet holds it."""
    from arkund.core.sheet.sheet import Tempo

    changes = [{"bar": c.bar, "bpm": c.bpm, "beats": c.beats, "unit": c.unit} for c in grid.changes]
    return Tempo.model_validate(
        {
            "bpm": grid.bpm,
            "beats": grid.beats,
            "unit": grid.unit,
            "first_downbeat_s": grid.first_downbeat_s,
            "changes": changes,
        }
    )
