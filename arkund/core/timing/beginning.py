"""The first tempo map of a song, read from its strokes."""

from collections.abc import Sequence

import numpy as np

from arkund.core.hits.detect import Hit
from arkund.core.timing.grid import Grid, estimate_tempo, tempo_by_backbeat

LOUD_DB = -6.0
UNKNOWN_BPM = 120.0


def first_grid(
    hits: Sequence[Hit],
    beats: int,
    unit: int,
    bpm: float | None = None,
    first_downbeat_s: float | None = None,
) -> Grid:
    """A constant tempo and where bar 1 begins; what is given is not estimated. 120 BPM where the
    strokes tell no tempo."""
    times = np.array([h.time_s for h in hits])
    weights = np.array([3.0 if h.piece == "kick" else 1.0 for h in hits])
    if bpm is None:
        found = estimate_tempo(times, weights)
        backbeats = np.array(
            [h.time_s for h in hits if h.piece == "snare" and h.level_db > LOUD_DB]
        )
        bpm = round(tempo_by_backbeat(found[0], backbeats), 3) if found else UNKNOWN_BPM
    grid = Grid(bpm, beats, unit)
    start = _first_downbeat(hits, grid) if first_downbeat_s is None else first_downbeat_s
    return Grid(bpm, beats, unit, round(start, 5))


def _first_downbeat(hits: Sequence[Hit], grid: Grid) -> float:
    """The beat line nearest the first kick: songs begin on one far more often than not."""
    if not hits:
        return 0.0
    times = np.array([h.time_s for h in hits])
    phase = np.angle(np.sum(np.exp(2j * np.pi * times / grid.beat_s * 2))) / (4 * np.pi)
    anchor = next((h.time_s for h in hits if h.piece == "kick"), hits[0].time_s)
    lines = (np.round((anchor / grid.beat_s - phase) * 2) / 2 + phase) * grid.beat_s
    return max(float(lines), 0.0)
