"""Hits that another piece masks: timed by the shape that the drum's own hits share.

A ghost under a hat reaches its mic after the hat does, and softer where the hat is bright: the
first arrival in that mic is the hat's. Below 1.2 kHz, where hats and sticks leave little, a drum's
hits begin alike, and the place where a hit begins as the others do is its own.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.slowed import Slowed
from arkund.core.kernel import kernel

BAND_HZ = (120.0, 1200.0)
BEFORE_S, AFTER_S = 0.003, 0.014
EARLIER_S, LATER_S = 0.008, 0.022
"""How far from where it was first seen a hit may lie."""

PARTED_S = 0.0022
"""Softer hits touch longer and begin up to 1 ms late by their shape; from here on it counts."""

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

TOLD_EARLIER_S, TOLD_LATER_S = 0.004, 0.016


@dataclass(frozen=True)
class Beginning:
    """How a drum's hits begin, laid on its nearest mic at every place from sample ``first`` on,
    ``step`` samples apart: how much of the sound it explains there, as an amplitude (``explained``)
    and as a correlation with it (``alike``), each ``(places,)``."""

    explained: NDArray[np.float32]
    alike: NDArray[np.float32]
    first: int
    step: int

    def around(
        self, at: NDArray[np.int64], before: int, after: int
    ) -> tuple[NDArray[np.int64], NDArray[np.float32], NDArray[np.float32]]:
        """For each of the samples ``at`` the places from ``before`` it until ``after`` it, in samples,
        and both figures there, each ``(len(at), places)``; −∞ where the shape does not fit into the
        sound."""
        begin = -(-(at - before - self.first) // self.step)
        index = begin[:, None] + np.arange((before + after) // self.step)
        inside = (index >= 0) & (index < len(self.explained))
        held = np.clip(index, 0, max(len(self.explained) - 1, 0))
        nowhere = np.float32(-np.inf)
        return (
            self.first + self.step * index,
            np.where(inside, self.explained[held], nowhere),
            np.where(inside, self.alike[held], nowhere),
        )


def shared_beginning(
    slow: Slowed, plain: Sequence[float], clear_db: NDArray[np.float64]
) -> Beginning | None:
    """The median beginning of hits that are clear, or of the clearest third.

    ``slow`` is a drum's nearest mic, ``plain`` the first arrivals of its hits in samples of the
    whole sound and ``clear_db`` how far each exceeds bleed in its bright bands. None where there are
    too few of them.
    """
    if len(plain) < LEAST_CLEAR:
        return None
    before, after = (round(s * slow.rate) for s in (BEFORE_S, AFTER_S))
    at = [round(p / slow.step) for p in plain]
    inside = np.array([before <= n < len(slow.sound) - after - 1 for n in at])
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
    low = _low(slow)
    begins = np.array([low[at[i] - before : at[i] + after] for i in clear])
    norms = np.linalg.norm(begins, axis=1, keepdims=True)
    shape = np.median(begins / np.maximum(norms, 1e-9), axis=0)
    shape /= max(float(np.linalg.norm(shape)), 1e-9)
    # Below what float arithmetic leaves of silence nothing is alike.
    least = 1e-15 * float(low @ low) + 1e-18
    explained, alike = _laid(low, shape, least)
    return Beginning(explained, alike, before * slow.step, slow.step)


AT_ONCE = 2048
"""Places that are looked at together: as many as stay near the processor."""


@kernel(fastmath={"contract"})
def _laid(sound, shape, least):  # type: ignore[no-untyped-def]
    """Product of ``shape`` with ``sound`` at every place where it lies within it, and the same over the
    root of the sound's energy there, which is taken to be ``least`` at least."""
    places = len(sound) - len(shape) + 1
    explained, alike = np.empty(places, np.float32), np.empty(places, np.float32)
    product, energy = np.empty(AT_ONCE), np.empty(AT_ONCE)
    fours = len(shape) - len(shape) % 4
    for first in range(0, places, AT_ONCE):
        count = min(AT_ONCE, places - first)
        product[:] = 0.0
        for t in range(0, fours, 4):
            a, b, c, d = shape[t], shape[t + 1], shape[t + 2], shape[t + 3]
            heard = sound[first + t : first + t + count + 3]
            for k in range(count):
                product[k] += a * heard[k] + b * heard[k + 1] + c * heard[k + 2] + d * heard[k + 3]
        for t in range(fours, len(shape)):
            for k in range(count):
                product[k] += shape[t] * sound[first + t + k]
        total = 0.0
        for n in range(first, first + len(shape)):
            total += sound[n] * sound[n]
        for k in range(count):
            energy[k] = total
            if first + k + len(shape) < len(sound):
                new, old = sound[first + k + len(shape)], sound[first + k]
                total += new * new - old * old
        for k in range(count):
            explained[first + k] = product[k]
            alike[first + k] = product[k] / np.sqrt(max(energy[k], least))
    return explained, alike


def _low(slow: Slowed) -> NDArray[np.float64]:
    """What lies within `BAND_HZ`."""
    band = np.concatenate(
        [
            scipy.signal.butter(2, BAND_HZ[0], "highpass", fs=slow.rate, output="sos"),
            scipy.signal.butter(8, BAND_HZ[1], "lowpass", fs=slow.rate, output="sos"),
        ]
    )
    low: NDArray[np.float64] = scipy.signal.sosfilt(band, slow.sound.astype(np.float64))
    return low


def own_places(
    beginning: Beginning, at: NDArray[np.int64], plain: NDArray[np.float64], rate: int
) -> NDArray[np.float64]:
    """First arrivals in samples of hits first seen at samples ``at`` and at ``plain`` in the whole
    sound.

    Where the shape explains most of the sound, if that lies further than `PARTED_S` from the plain
    place, and it fits far better there; else the plain place. A drum's ring repeats, so the shape
    fits half well a period away too: of the places where it explains much, the one most like it
    counts, for a ring's later periods may be larger than its first, but never as much alike.
    """
    if not len(at):
        return plain
    places, explained, alike = beginning.around(at, round(EARLIER_S * rate), round(LATER_S * rate))
    rows = np.arange(len(at))
    near = np.abs(places - plain[:, None]) <= PARTED_S * rate
    much = explained >= MUCH * explained.max(axis=1, keepdims=True)
    best = np.argmax(np.where(much, alike, -1.0), axis=1)
    there, here = alike[rows, best], np.where(near, alike, -np.inf).max(axis=1)
    nearest = np.where(near, explained, -np.inf).max(axis=1)
    far_more = explained[rows, best] >= FAR_MORE * nearest
    more_alike = (there >= np.maximum(ALIKE, here + CLOSER)) | (
        there >= np.maximum(HALF_ALIKE, here + FAR_CLOSER)
    )
    moved = far_more & more_alike & ~near[rows, best] & np.isfinite(nearest)
    return np.where(moved, places[rows, best].astype(np.float64), plain)


def by_shape(
    beginning: Beginning,
    at: NDArray[np.int64],
    rate: int,
    earlier_s: float = TOLD_EARLIER_S,
    later_s: float = TOLD_LATER_S,
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Where about each of the samples ``at`` ``(hits,)`` the shape explains most, in samples, and its
    correlation there; NaN outside the sound."""
    if not len(at):
        return np.zeros(0), np.zeros(0)
    places, explained, alike = beginning.around(at, round(earlier_s * rate), round(later_s * rate))
    rows, best = np.arange(len(at)), np.argmax(explained, axis=1)
    heard = np.isfinite(explained[rows, best])
    return (
        np.where(heard, places[rows, best], np.nan),
        np.where(heard, alike[rows, best].astype(np.float64), np.nan),
    )


HERE_S = 0.001
"""So near a place the shape counts as being there."""


def shape_here(
    beginning: Beginning, place: NDArray[np.float64], rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How much like the shape what begins at each ``place`` ``(places,)`` (samples) is, as a correlation, and how much
    of it there is, in dB against the most about it; NaN outside the sound."""
    if not len(place):
        return np.zeros(0), np.zeros(0)
    at = np.round(place).astype(np.int64)
    places, explained, alike = beginning.around(
        at, round(EARLIER_S * rate), round(EARLIER_S * rate)
    )
    near = np.abs(places - place[:, None]) <= HERE_S * rate
    here = np.where(near, alike, -np.inf).max(axis=1).astype(np.float64)
    much = np.where(near, explained, -np.inf).max(axis=1).astype(np.float64)
    most = explained.max(axis=1).astype(np.float64)
    heard = np.isfinite(here)
    share = np.maximum(much, 1e-9) / np.maximum(most, 1e-9)
    return (
        np.where(heard, here, np.nan),
        np.where(heard, 20 * np.log10(np.clip(share, 1e-3, 1.0)), np.nan),
    )
