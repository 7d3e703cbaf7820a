"""Strokes that another piece masks: timed by the shape that the drum's own strokes share.

A ghost under a hat reaches its mic after the hat does, and softer where the hat is bright: the
first arrival in that mic is the hat's. Below 1.2 kHz, where hats and sticks leave little, a drum's
strokes begin alike, and the place where a stroke begins as the others do is its own.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

BAND_HZ = (120.0, 1200.0)
BEFORE_S, AFTER_S = 0.003, 0.014
EARLIER_S, LATER_S = 0.008, 0.022
"""How far from where it was first seen a stroke may lie."""

PARTED_S = 0.0022
"""Softer strokes touch longer and begin up to 1 ms late by their shape; from here on it counts."""

ALIKE = 0.75
"""Least correlation with the shape at which it says anything."""

MUCH = 0.6
FAR_MORE = 1.5
CLOSER = 0.05
HALF_ALIKE, FAR_CLOSER = 0.62, 0.2
"""What is less alike will do where nothing else is nearly as much."""

CLEAR_DB = 10.0
LEAST_CLEAR = 5
LEAST_APART, APART_DB = 2, 8.0
"""Fewer will do if they stand clear by so much more than the next: the rest is bleed."""

TOLD = 0.77
"""Correlation at which the shape tells of a stroke that hardly exceeds bleed; what is none of the
drum's own stays below."""

TOLD_EARLIER_S, TOLD_LATER_S = 0.004, 0.016


@dataclass(frozen=True)
class Beginning:
    """How a drum's strokes begin: ``shape`` ``(before + after,)`` of norm 1, in ``low``, its
    nearest mic within `BAND_HZ`."""

    low: NDArray[np.float32]
    shape: NDArray[np.float32]
    before: int
    after: int

    def around(self, start: int, stop: int) -> tuple[int, NDArray[np.float64], NDArray[np.float64]]:
        """From which sample on, and for each sample how much of the sound the shape explains
        there, as an amplitude and as a correlation with it."""
        start, stop = max(start, self.before), min(stop, len(self.low) - self.after)
        sound = self.low[start - self.before : max(stop, start) + self.after].astype(np.float64)
        if len(sound) < len(self.shape):
            return start, np.zeros(0), np.zeros(0)
        explained = scipy.signal.correlate(sound, self.shape, "valid")
        sums = np.concatenate([[0.0], np.cumsum(sound**2)])
        energy = sums[len(self.shape) :] - sums[: -len(self.shape)]
        return start, explained, explained / np.sqrt(np.maximum(energy, 1e-18))


def shared_beginning(
    audio: NDArray[np.float32], rate: int, plain: Sequence[float], clear_db: NDArray[np.float64]
) -> Beginning | None:
    """The median beginning of strokes that are clear, or of the clearest third.

    ``audio`` ``(frames,)`` is a drum's nearest mic, ``plain`` the first arrivals of its strokes in
    samples and ``clear_db`` how far each exceeds bleed in its bright bands. None where there are
    too few of them.
    """
    before, after = round(BEFORE_S * rate), round(AFTER_S * rate)
    if len(plain) < LEAST_CLEAR:
        return None
    inside = np.array([before <= p < len(audio) - after - 1 for p in plain])
    order = np.argsort(np.where(inside, clear_db, -np.inf))[::-1]
    surely = int(np.sum(inside & (clear_db >= CLEAR_DB)))
    clear = order[: max(surely, len(plain) // 3, LEAST_CLEAR)]
    few = LEAST_APART <= surely < len(clear)
    if few and clear_db[order[surely - 1]] - clear_db[order[surely]] > APART_DB:
        clear = order[:surely]
    elif len(clear) < LEAST_CLEAR:
        return None
    if not inside[clear].all():
        return None
    band = np.concatenate([
        scipy.signal.butter(2, BAND_HZ[0], "highpass", fs=rate, output="sos"),
        scipy.signal.butter(8, BAND_HZ[1], "lowpass", fs=rate, output="sos"),
    ])  # fmt: skip
    low = scipy.signal.sosfilt(band, audio).astype(np.float32)
    begins = np.array([low[round(plain[i]) - before : round(plain[i]) + after] for i in clear])
    norms = np.linalg.norm(begins, axis=1, keepdims=True)
    shape = np.median(begins / np.maximum(norms, 1e-9), axis=0)
    return Beginning(low, shape / max(float(np.linalg.norm(shape)), 1e-9), before, after)


def own_place(beginning: Beginning, at: int, plain: float, rate: int) -> float:
    """First arrival in samples of a stroke first seen at sample ``at`` and at ``plain`` in the
    whole sound.

    Where the shape explains most of the sound, if that lies further than `PARTED_S` from the plain
    place, and it fits far better there; else the plain place. A drum's ring repeats, so the shape
    fits half well a period away too: see `_best_place`.
    """
    start, explained, alike = beginning.around(
        at - round(EARLIER_S * rate), at + round(LATER_S * rate)
    )
    near = np.abs(np.arange(len(explained)) + start - plain) <= PARTED_S * rate
    if not near.any():
        return plain
    best = _best_place(explained, alike)
    far_more = explained[best] >= FAR_MORE * explained[near].max()
    there, here = alike[best], alike[near].max()
    more_alike = there >= max(ALIKE, here + CLOSER) or there >= max(HALF_ALIKE, here + FAR_CLOSER)
    return float(start + best) if far_more and more_alike and not near[best] else plain


def _best_place(explained: NDArray[np.float64], alike: NDArray[np.float64]) -> int:
    """Of the places where the shape explains much, the one most like it: a ring's later periods
    may be larger than its first, but never as much alike."""
    much = explained >= MUCH * explained.max()
    return int(np.argmax(np.where(much, alike, -1.0)))


@dataclass(frozen=True)
class Told:
    """A stroke's place in samples by its shape, and its correlation with it."""

    at: float
    alike: float


def by_shape(beginning: Beginning, at: int, rate: int) -> Told | None:
    """Where about sample ``at`` the shape explains most, and how well; None outside the sound."""
    start, explained, alike = beginning.around(
        at - round(TOLD_EARLIER_S * rate), at + round(TOLD_LATER_S * rate)
    )
    if not len(explained):
        return None
    best = int(np.argmax(explained))
    return Told(float(start + best), float(alike[best]))


def told_by_shape(beginning: Beginning, at: int, rate: int) -> Told | None:
    """Where a stroke of this drum begins about sample ``at``, if its shape alone tells; else None."""
    found = by_shape(beginning, at, rate)
    return found if found and found.alike >= TOLD else None
