"""Kits of recorded hits: which note of which of the font's kits each piece is, and its tuning.

Development listens to some; `make accuracy` reports on the others.
"""

from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Kit:
    """``pieces`` maps a piece to (program, note, tuning as a ratio of frequency)."""

    name: str
    pieces: dict[str, tuple[int, int, float]]


Voice = tuple[int, int, float]
"""A program, a note, and its tuning as a ratio of frequency."""


def kit_of(
    name: str,
    kick: Voice,
    snare: Voice,
    toms: int,
    tuning: float,
    hat: int,
    cymbals: float,
    *,
    ride: int = 51,
    crashes: tuple[int, int] = (49, 57),
) -> Kit:
    """A kit of recorded hits: ``toms`` and ``hat`` are programs, whose notes are the standard's;
    ``ride`` and ``crashes`` are notes of the first one."""
    return Kit(
        name,
        {
            "kick": kick,
            "snare": snare,
            "tom_1": (toms, 50, tuning),
            "tom_2": (toms, 47, tuning),
            "tom_3": (toms, 43, tuning),
            "hat": (hat, 42, cymbals),
            "hat pedal": (hat, 44, cymbals),
            "hat open": (hat, 46, cymbals),
            "ride": (0, ride, cymbals),
            "crash_1": (0, crashes[0], cymbals),
            "crash_2": (0, crashes[1], cymbals),
        },
    )


SWAPPED: dict[str, Any] = {"ride": 59, "crashes": (57, 49)}

DEVELOPMENT = (
    kit_of("plain", (0, 36, 1.0), (0, 38, 1.0), 0, 1.0, 0, 1.0),
    kit_of("power", (16, 36, 1.0), (16, 38, 1.0), 16, 1.0, 1, 0.93, **SWAPPED),
    kit_of("jazz", (3, 36, 1.08), (3, 38, 1.05), 0, 1.12, 0, 1.07),
)
REPORT = (
    kit_of("low", (7, 36, 0.95), (2, 40, 0.94), 0, 0.9, 1, 0.97, **SWAPPED),
    kit_of("bright", (4, 36, 1.0), (1, 38, 1.0), 16, 1.1, 0, 1.1),
    kit_of("deep", (1, 36, 0.92), (10, 38, 1.0), 0, 0.94, 1, 1.03),
    kit_of("old", (6, 36, 1.0), (48, 38, 1.0), 16, 0.92, 0, 0.9, **SWAPPED),
)
BRUSHED = ((40, 38, 1.0), (40, 40, 0.93))
"""Snares played with brushes: development's, then the report's. (Development has heard the second
too, tuned otherwise: the font has no third.)"""
