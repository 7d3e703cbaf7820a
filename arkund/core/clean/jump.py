"""How far the cymbals of the whole kit jump when one mic's gate shuts.

A tom's mic holds cymbals too. While its gate is open they are part of what the kit sounds like;
when it shuts they are gone, and the cymbals seem to step back until the next hit.
"""

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.clean.gate import Envelope
from arkund.core.units import power_to_db

CYMBALS_HZ = 5000.0
"""From here on cymbals are most of what a kit sounds like between hits."""

AFTER_S = 0.15
"""So long after the gate is shut the kit is listened to."""

SILENT_DB = -90.0


def shut_at(shape: Envelope) -> NDArray[np.float64]:
    """Samples, ascending, at which a gate's gain has fallen to its lowest."""
    low = shape.gains_db.min(initial=0.0)
    falls = (shape.gains_db[1:] <= low) & (shape.gains_db[:-1] > low)
    return shape.positions[1:][falls]


def cymbals_jump_db(
    held_open: NDArray[np.float32],
    gated: NDArray[np.float32],
    rate: int,
    shuts: NDArray[np.float64],
) -> float:
    """Median over the moments ``shuts`` (samples) of how many dB the whole kit falls above 5 kHz.

    ``held_open`` and ``gated`` are the kit, ``(frames, 2)``, with this one gate held open and as
    it is. Negative where what the gate takes away had cancelled the others; 0 where it never shuts
    while anything sounds.
    """
    rows = np.round(shuts).astype(np.int64)[:, None] + np.arange(round(AFTER_S * rate))
    rows = rows[rows[:, -1] < len(gated)] if len(rows) else rows
    if not len(rows):
        return 0.0
    sections = scipy.signal.butter(4, CYMBALS_HZ, "highpass", fs=rate, output="sos")

    def power(kit: NDArray[np.float32]) -> NDArray[np.float64]:
        high = scipy.signal.sosfilt(sections, kit, axis=0)
        square: NDArray[np.float64] = (high**2).sum(axis=1)[rows].mean(axis=1)
        return square

    before, after = power(held_open), power(gated)
    sounds = before > 10 ** (SILENT_DB / 10)
    if not sounds.any():
        return 0.0
    steps = [
        power_to_db(b) - power_to_db(a) for b, a in zip(before[sounds], after[sounds], strict=True)
    ]
    return round(float(np.median(steps)), 2) + 0.0
