"""Where a drum that swells, such as a snare struck with brushes, begins to.

Its first milliseconds are so soft that whatever still rings hides them, and what is noticed is a later
step of the swell. Its hits swell alike, though: laid over each onset, their common envelope says
where it begins.
"""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

HOP_S = 5e-4
BEFORE, AFTER = 28, 60
"""How many hops of the envelope are known about a hit's beginning."""

FEWEST = 5
SLOW_MS, SLOW_DB = 3.0, -8.0
"""A drum swells if its hits are still so soft after so long, against their loudest."""

EARLIER, LATER = 24, 12
"""How far from where it was noticed a hit may begin, in hops."""

FIRST, LAST = -16, 36
"""What is compared, in hops from where the hit was noticed."""

QUIET = slice(-44, -24)
"""Where it is heard what rings before, in hops from there."""

LOUD = slice(12, 40)
"""Where a hit's level is read, in hops from its beginning."""

FLOOR = 1e-5
"""Energy against the loudest of the hit that no longer counts."""


SOFT_DB = -8.0
"""Hits so far under the loud ones may begin otherwise: a stick that falls rather than strikes."""


def swelled_as_loud(
    sound: NDArray[np.float32],
    places: NDArray[np.float64],
    level_db: NDArray[np.float64],
    clear: Sequence[tuple[float, float]],
    rate: int,
) -> NDArray[np.float64]:
    """Where hits noticed at ``places`` (samples), so loud against the drum's loud ones
    (``level_db``), begin if they swell as the clearest third of the ``clear`` ones (place, level in dB;
    the clearest first), and soft ones as the soft among these; NaN where these do not."""
    out = np.full(len(places), np.nan)
    soft = [(at, level) for at, level in clear if level < SOFT_DB]
    for known, asked in ((clear, np.full(len(places), True)), (soft, level_db < SOFT_DB)):
        clearest = [at for at, _ in known[: max(len(known) // 3, FEWEST)]]
        found = swelled(sound, places[asked], clearest, rate)
        if found is not None:
            out[asked] = found
    return out


def swelled(
    sound: NDArray[np.float32], places: NDArray[np.float64], clear: Sequence[float], rate: int
) -> NDArray[np.float64] | None:
    """Where each of the hits noticed at ``places`` (samples) begins, in samples; NaN too near to the
    sound's ends. None of a drum that does not swell, or with fewer than `FEWEST` hits that are
    ``clear`` (their places)."""
    if len(clear) < FEWEST or len(places) == 0:
        return None
    hop = round(HOP_S * rate)
    energy = _steps(sound, hop)
    shape = _envelope(energy, np.asarray(clear) / hop)
    if shape is None:
        return None
    at = np.round(places / hop).astype(np.int64)
    inside = (at + QUIET.start >= 0) & (at + LAST + LATER < len(energy))
    held = np.where(inside, at, -QUIET.start)
    if held.max() + LAST >= len(energy):
        return None
    seen = energy[held[:, None] + np.arange(FIRST, LAST)]
    before = np.median(energy[held[:, None] + np.arange(QUIET.start, QUIET.stop)], axis=1)[:, None]
    floor = FLOOR * seen.max(axis=1, keepdims=True) + 1e-18
    shifts = np.arange(-EARLIER, LATER + 1)
    cost = np.empty((len(at), len(shifts)))
    for n, shift in enumerate(shifts):
        index = np.arange(FIRST, LAST) - shift
        there = shape[index + BEFORE]
        loud = (index >= LOUD.start) & (index < LOUD.stop)
        gain = np.maximum(seen[:, loud] - before, 0).sum(axis=1) / shape[index + BEFORE][loud].sum()
        model = gain[:, None] * there + before
        cost[:, n] = np.abs(np.log(seen + floor) - np.log(model + floor)).mean(axis=1)
    best = shifts[np.argmin(cost, axis=1)]
    return np.where(inside, places + best * hop, np.nan)


@kernel()
def _steps(sound, hop):  # type: ignore[no-untyped-def]
    """Energy of the steps from sample to sample, hop by hop."""
    energy = np.zeros(len(sound) // hop)
    before = sound[0] if len(sound) else 0.0
    for frame in range(len(energy)):
        for n in range(frame * hop, (frame + 1) * hop):
            energy[frame] += (sound[n] - before) ** 2
            before = sound[n]
    return energy


def _envelope(energy: NDArray[np.float64], at: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """The median energy about the beginning of hits, hop by hop, 1 at its loudest; None if that comes
    at once."""
    begin = np.round(at).astype(np.int64)
    begin = begin[(begin >= BEFORE) & (begin + AFTER + EARLIER < len(energy))]
    if len(begin) < FEWEST:
        return None
    hits = energy[begin[:, None] + np.arange(-BEFORE, AFTER + 1)]
    shape: NDArray[np.float64] = np.median(hits / hits.max(axis=1, keepdims=True), axis=0)
    shape /= shape.max()
    soon = shape[BEFORE : BEFORE + round(SLOW_MS / 1000 / HOP_S)]
    if 10 * np.log10(soon.max() + 1e-12) > SLOW_DB:
        return None
    shape[: BEFORE - 2] = 0.0
    return shape
