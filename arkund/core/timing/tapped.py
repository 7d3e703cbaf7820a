"""Tempo from taps."""

from collections.abc import Sequence

import numpy as np

MOST, FEWEST = 8, 3
PAUSE_S = 2.5
"""Taps before a longer pause were for something else."""

BPM = (20.0, 400.0)


def tapped_bpm(times_s: Sequence[float]) -> float | None:
    """Tempo in BPM of quarter notes tapped at ``times_s`` (ascending, s): the slope of a straight line
    through the last taps (least squares), so that one late tap hardly matters.

    None for fewer than three taps in a row, or taps that are no tempo.
    """
    times = np.asarray(times_s, np.float64)
    gaps = np.diff(times)
    pauses = np.flatnonzero((gaps > PAUSE_S) | (gaps <= 0))
    times = times[pauses[-1] + 1 if len(pauses) else 0 :][-MOST:]
    if len(times) < FEWEST:
        return None
    beat_s = float(np.polyfit(np.arange(len(times)), times, 1)[0])
    bpm = 60 / beat_s
    return bpm if BPM[0] <= bpm <= BPM[1] else None
