"""Where sound begins anew about an onset: the places at which a hit may begin.

A hat struck a few ms before or after a snare begins in its own mic where nothing seems to begin, for
the snare is louder there. So every place that stirs is offered, with how much it does.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

EARLIER_S, LATER_S = 0.016, 0.012
"""How far about an onset it is looked for."""

DULL_HZ = (120.0, 1000.0)
"""A drum's body, in which a hat hardly bleeds: a soft hit begins there where in the whole sound
the hat seems to."""


MID_HZ = (1000.0, 3500.0)
"""What sticks and wires hold, in which neither a kick's body nor a cymbal's wash is loud: a ghost
begins there where in the dull part the kick does."""


@dataclass(frozen=True)
class Ear:
    """How long is listened behind a place and before it, in s."""

    ahead_s: float
    back_s: float


BRIGHT, DULL = Ear(0.0012, 0.002), Ear(0.003, 0.004)
"""For the whole sound, and for its dull part, whose waves are longer."""

APART_S = 0.003
MOST = 3
LEAST_DB = 3.0
SILENT = 1e-4
"""Energy against the loudest about it that counts as nothing."""

NEAR_S = 0.0008
"""A place is as new as the newest so near it."""


def stirs(
    sound: NDArray[np.float32], at: NDArray[np.int64], rate: float, ear: Ear = BRIGHT
) -> tuple[NDArray[np.int64], NDArray[np.float64]]:
    """Places in samples ``(places,)`` where ``sound`` ``(frames,)`` begins anew about the onsets ``at``
    (samples), `MOST` at most for each, and which onset each is of."""
    earlier, later, ahead, back, apart = (
        round(s * rate) for s in (EARLIER_S, LATER_S, ear.ahead_s, ear.back_s, APART_S)
    )
    places, of = _stirs(sound, at, earlier, later, ahead, back, apart, MOST, LEAST_DB)
    return places, of


def newness(
    sound: NDArray[np.float32], places: NDArray[np.float64], rate: float, ear: Ear = BRIGHT
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """How new what begins at ``places`` (samples) is there, and how loud against the loudest that
    begins about it, both in dB ``(places,)``; of the squared steps from sample to sample, which let a
    stick stand out."""
    earlier, later, ahead, back, near = (
        round(s * rate) for s in (EARLIER_S, LATER_S, ear.ahead_s, ear.back_s, NEAR_S)
    )
    at = np.round(places).astype(np.int64)
    new_db, loud_db = _newness(sound, at, earlier, later, ahead, back, near)
    return new_db, loud_db


@kernel()
def _sums(sound, start, stop, ahead, back):  # type: ignore[no-untyped-def]
    """Energy to come and just gone at each sample from ``start`` to ``stop``."""
    count = max(stop - start, 0)
    old, loud = np.zeros(count), np.zeros(count)
    if count == 0:
        return old, loud
    squares = np.zeros(count + ahead + back)
    for k in range(len(squares)):
        n = start - back + k
        if 1 <= n < len(sound):
            step = sound[n] - sound[n - 1]
            squares[k] = step * step
    after, before = squares[back : back + ahead].sum(), squares[:back].sum()
    for k in range(count):
        loud[k], old[k] = after, before
        after = (
            max(after + squares[k + back + ahead] - squares[k + back], 0.0)
            if k + 1 < count
            else 0.0
        )
        before = max(before + squares[k + back] - squares[k], 0.0)
    return old, loud


@kernel()
def _ratio(old, loud, ahead, back, least):  # type: ignore[no-untyped-def]
    return (loud / ahead + least) / (old / back + least)


@kernel()
def _stirs(sound, at, earlier, later, ahead, back, apart, most, least_db):  # type: ignore[no-untyped-def]
    places, owners = np.zeros(len(at) * most, np.int64), np.zeros(len(at) * most, np.int64)
    found, enough = 0, 10 ** (least_db / 10)
    for i in range(len(at)):
        start = max(at[i] - earlier, back + 1)
        old, loud = _sums(sound, start, min(at[i] + later, len(sound) - ahead), ahead, back)
        if len(old) == 0:
            continue
        least = SILENT * loud.max() / ahead + 1e-14
        new = _ratio(old, loud, ahead, back, least)
        for _ in range(most):
            best = int(np.argmax(new))
            if new[best] < enough:
                break
            places[found], owners[found] = start + best, i
            found += 1
            new[max(best - apart, 0) : best + apart] = 0.0
    return places[:found], owners[:found]


@kernel()
def _newness(sound, places, earlier, later, ahead, back, near):  # type: ignore[no-untyped-def]
    newest, loudest = np.zeros(len(places)), np.zeros(len(places))
    for i in range(len(places)):
        start = max(places[i] - earlier, back + 1)
        old, loud = _sums(sound, start, min(places[i] + later, len(sound) - ahead), ahead, back)
        low, high = max(places[i] - near - start, 0), places[i] + near + 1 - start
        if high <= low or low >= len(old):
            continue
        least = SILENT * loud.max() / ahead + 1e-14
        ratio = _ratio(old[low:high], loud[low:high], ahead, back, least)
        newest[i] = 10 * np.log10(ratio.max())
        loudest[i] = 10 * np.log10((loud[low:high].max() + 1e-14) / (loud.max() + 1e-14))
    return newest, loudest
