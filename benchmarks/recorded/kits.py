"""Kits of recorded hits: which note of which of the font's kits each piece is, and its tuning.

Development listens to some; `make accuracy` reports on the others.
"""

from dataclasses import dataclass


@dataclass(frozen=True)
class Kit:
    """``pieces`` maps a piece to (program, note, tuning as a ratio of frequency)."""

    name: str
    pieces: dict[str, tuple[int, int, float]]


def _kit(
    name: str,
    kick: tuple[int, int, float],
    snare: tuple[int, int, float],
    toms: int,
    tuning: float,
    hat: int,
    cymbals: float,
    *,
    swapped: bool = False,
) -> Kit:
    crash, other = (57, 49) if swapped else (49, 57)
    ride = 59 if swapped else 51
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
            "crash_1": (0, crash, cymbals),
            "crash_2": (0, other, cymbals),
        },
    )


DEVELOPMENT = (
    _kit("plain", (0, 36, 1.0), (0, 38, 1.0), 0, 1.0, 0, 1.0),
    _kit("power", (16, 36, 1.0), (16, 38, 1.0), 16, 1.0, 1, 0.93, swapped=True),
    _kit("jazz", (3, 36, 1.08), (3, 38, 1.05), 0, 1.12, 0, 1.07),
)
REPORT = (
    _kit("low", (7, 36, 0.95), (2, 40, 0.94), 0, 0.9, 1, 0.97, swapped=True),
    _kit("bright", (4, 36, 1.0), (1, 38, 1.0), 16, 1.1, 0, 1.1),
    _kit("deep", (1, 36, 0.92), (10, 38, 1.0), 0, 0.94, 1, 1.03),
    _kit("old", (6, 36, 1.0), (48, 38, 1.0), 16, 0.92, 0, 0.9, swapped=True),
)
BRUSHED = ((40, 38, 1.0), (40, 40, 0.93))
"""Snares played with brushes: development's, then the report's. (Development has heard the second
too, tuned otherwise: the font has no third.)"""
