"""The tempo map: the sheet's settings, and the `Grid` that is made from them."""

from typing import Annotated, Protocol

from pydantic import Field, model_validator

from arkund.core.process.values import Part
from arkund.core.timing.grid import (
    FASTEST_BPM,
    LAST_BAR,
    MOST_BEATS,
    SLOWEST_BPM,
    Change,
    Grid,
    Unit,
)

Bar = Annotated[int, Field(ge=1, le=LAST_BAR)]


class TempoChange(Part):
    """From the beginning of ``bar`` on: this tempo and meter."""

    bar: Bar = Field(ge=2)
    bpm: float = Field(ge=SLOWEST_BPM, le=FASTEST_BPM)
    beats: int = Field(4, ge=1, le=MOST_BEATS)
    unit: Unit = 4


class Tempo(Part):
    """The tempo map; bar 1 begins at ``first_downbeat_s``. Changes by rising bar, each holding
    until the next; without any the tempo is constant."""

    bpm: float = Field(120.0, ge=SLOWEST_BPM, le=FASTEST_BPM)
    beats: int = Field(4, ge=1, le=MOST_BEATS)
    unit: Unit = 4
    first_downbeat_s: float = Field(0.0, ge=-60, le=600)
    changes: tuple[TempoChange, ...] = Field((), max_length=LAST_BAR)

    @model_validator(mode="after")
    def _changes_in_order(self) -> "Tempo":
        bars = [c.bar for c in self.changes]
        if bars != sorted(set(bars)):
            raise ValueError("tempo changes stand in order, one to a bar")
        return self


class Timed(Protocol):
    """What has a tempo map: a sheet."""

    @property
    def tempo(self) -> Tempo: ...


def grid_of(sheet: Timed) -> Grid:
    """The sheet's tempo map."""
    t = sheet.tempo
    changes = tuple(Change(c.bar, c.bpm, c.beats, c.unit) for c in t.changes)
    return Grid(t.bpm, t.beats, t.unit, t.first_downbeat_s, changes)


def tempo_of(grid: Grid) -> Tempo:
    """A tempo map as the sheet holds it."""
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
