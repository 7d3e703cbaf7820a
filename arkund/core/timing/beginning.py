"""The first tempo map of a song, read from its hits."""

from collections.abc import Sequence

import numpy as np

from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid, estimate_tempo, tempo_by_backbeat
from arkund.core.timing.readings import BETTER, readings

UNKNOWN_BPM = 120.0

LONGEST_S = 300.0
"""So long is enough to tell a tempo; time and memory grow with the square of the length."""


def first_grid(
    hits: Sequence[Hit],
    beats: int,
    unit: int,
    bpm: float | None = None,
    first_downbeat_s: float | None = None,
) -> Grid:
    """A constant tempo and where bar 1 begins, by the first five minutes of ``hits``; what is given is not estimated.
    120 BPM where the hits tell no tempo."""
    hits = [h for h in hits if h.time_s <= hits[0].time_s + LONGEST_S]
    times = np.array([h.time_s for h in hits])
    weights = np.array([3.0 if h.piece == "kick" else 1.0 for h in hits])
    if bpm is None:
        found = estimate_tempo(times, weights)
        snares = [h for h in hits if h.piece == "snare"]
        snares_s = np.array([h.time_s for h in snares])
        levels_db = np.array([h.level_db for h in snares])
        bpm = tempo_by_backbeat(found[0], snares_s, levels_db) if found else UNKNOWN_BPM
        others = readings(hits, bpm, beats)
        bpm = round(others[0].bpm if others and others[0].weight >= BETTER else bpm, 3)
    grid = Grid(bpm, beats, unit)
    start = _first_downbeat(hits, grid) if first_downbeat_s is None else first_downbeat_s
    return Grid(bpm, beats, unit, round(start, 5))


def _first_downbeat(hits: Sequence[Hit], grid: Grid) -> float:
    """The half of a beat, or the third where hits fall in triplets, nearest the first kick:
    songs begin on a beat far more often than not."""
    if not hits:
        return 0.0
    beats = np.array([h.time_s for h in hits]) / grid.beat_s
    halves, thirds = (np.sum(np.exp(2j * np.pi * beats * parts)) for parts in (2, 3))
    parts, phasor = (2, halves) if abs(halves) >= abs(thirds) else (3, thirds)
    phase = np.angle(phasor) / (2 * np.pi * parts)
    anchor = next((h.time_s for h in hits if h.piece == "kick"), hits[0].time_s) / grid.beat_s
    line = np.round((anchor - phase) * parts) / parts + phase
    return max(float(line * grid.beat_s), 0.0)
