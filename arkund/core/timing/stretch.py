"""From moves to slices: cutting between hits so that every hit keeps its own sound.

A hit and what leads up to it are carried as they are. The way between two hits grows or
shrinks by splices: places where the sound goes on a little earlier or later in itself, chosen
where it is most like what it leaves, so that a ring goes on ringing. This is overlap-add with
waveform similarity (Verhelst and Roelands, 1993), done only between hits, with offsets found
once on a sum of all mics and used for each of them.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.timing.splice import best_splice

Guide = Callable[[int, int], NDArray[np.float32]]
"""Samples from–to of what the splices are chosen on, ``(frames, 2)``: close mics, ambience."""

BODY_S = 0.045
"""A hit's own beginning, never cut into where the way to the next allows."""

LEAST_BODY_S = 0.012
AHEAD_S = 0.003
"""Every mic goes on untouched from so long before a hit's first arrival."""

WAY_S = 0.6
"""Of a longer way between hits only the end is looked at: there all has faded most."""

FADE_S = 0.010
LEAST_FADE_S = 0.001
LARGEST_JUMP_S = 0.012
COARSE = 4


@dataclass(frozen=True)
class Slice:
    """From sample ``at`` of the edited song on, until the next slice, sample ``n`` is the
    source's ``n + offset``; it comes in over ``fade`` samples that end at ``at``."""

    at: int
    offset: int
    fade: int


@dataclass(frozen=True)
class Anchor:
    """Hits from source sample ``at`` (the first arrival) to ``last`` (the last one's) that go
    together by ``shift`` samples."""

    at: int
    last: int
    shift: int


def plan(anchors: Sequence[Anchor], guide: Guide, rate: int, frames: int) -> list[Slice]:
    """Slices that put every anchor where it goes. ``anchors`` by rising place.

    Nothing moved gives the one slice that changes nothing. Where hits follow each other so
    fast that no way is left between them, the cut falls right before the later one.
    """
    slices = [Slice(0, 0, 0)]
    shift, played = 0, 0
    for anchor in anchors:
        if anchor.shift != shift:
            stop = anchor.at - round(AHEAD_S * rate)
            slices += _bridge(played, stop, shift, anchor.shift - shift, guide, rate)
            shift = anchor.shift
        played = anchor.last
    if shift and played + rate // 4 < frames:
        slices += _bridge(played, min(played + 2 * rate, frames), shift, -shift, guide, rate)
    return _in_order(slices)


def _in_order(slices: Sequence[Slice]) -> list[Slice]:
    """Fades that reach back no further than to the slice before."""
    out = [slices[0]]
    for s in slices[1:]:
        if s.at <= out[-1].at:
            out.pop()
        before = out[-1].at if out else 0
        out.append(Slice(s.at, s.offset, max(1, min(s.fade, s.at - before))))
    return out


def _bridge(start: int, stop: int, shift: int, step: int, guide: Guide, rate: int) -> list[Slice]:
    """Slices between a hit at source sample ``start`` and the next, whose untouched part
    begins at ``stop``, that change the shift by ``step`` samples."""
    way = max(stop - start, 0)
    low = start + min(round(BODY_S * rate), max(round(LEAST_BODY_S * rate), way // 3))
    low = max(low, stop - round(WAY_S * rate))
    least = round(LEAST_FADE_S * rate)
    count = max(1, -(-abs(step) // round(LARGEST_JUMP_S * rate)))
    room = stop - low - abs(step)
    if room < 2 * count * least:
        count = 1
    fade = min(round(FADE_S * rate), max(room // (2 * count), least))
    out: list[Slice] = []
    left, edge = step, low
    for number in range(count):
        to_come = count - number
        jump, exact = round(left / to_come), to_come == 1
        last = stop if exact else edge + (stop - edge) // to_come
        place, jump = _best((edge, last), stop, jump, fade, low, guide, rate, exact)
        shift += jump
        left -= jump
        out.append(Slice(place + shift, -shift, fade))
        edge = place
    return out


def _best(
    window: tuple[int, int],
    stop: int,
    jump: int,
    fade: int,
    low: int,
    guide: Guide,
    rate: int,
    exact: bool,
) -> tuple[int, int]:
    """``(source sample at which the splice is done, jump)``.

    What goes out ends at source sample ``p + jump`` after its fade; what comes in goes on from
    ``p``: with a positive jump the last stretch is heard twice, with a negative one skipped.
    """
    first, last = window
    low = max(low, first)
    spread = 0 if exact else min(abs(jump) // 2, round(0.003 * rate))
    jumps = np.arange(jump - spread, jump + spread + 1, COARSE if spread else 1)
    reach = int(np.max(np.abs(jumps))) + fade
    if low > min(last, stop):
        # A flam or a roll: the later hit begins before the body of the one before is over.
        return stop - max(jump, 0), jump
    a, b = first - reach, min(last, stop) + reach
    within = (low - a, min(last, stop) - a)
    found = best_splice(guide(a, b), jumps, fade, within, rate)
    if found is None:
        return stop - max(jump, 0), jump
    return found[0] + a, found[1]


def seam_ratio(sound: NDArray[np.float32], at: int, rate: int) -> float:
    """How a seam in ``sound`` ``(frames,)`` stands out: the largest second difference within 2 ms of sample
    ``at`` over the
    99.9th percentile of those in the 50 ms around. Above 1.5 it is suspect."""
    near, around = round(0.002 * rate), round(0.025 * rate)
    low = max(at - around, 0)
    wide = np.abs(np.diff(sound[low : at + around + 2].astype(np.float64), 2))
    close = wide[max(at - near - low, 0) : max(at + near - low, 0)]
    usual = _percentile(wide, 99.9) if len(wide) else 0.0
    return float(close.max(initial=0.0)) / usual if usual > 1e-9 else 0.0


def _percentile(values: NDArray[np.float64], percent: float) -> float:
    """`numpy.percentile` of one row, which for a short one takes most of its time for preparation."""
    place = percent / 100 * (len(values) - 1)
    below = int(place)
    above = min(below + 1, len(values) - 1)
    ordered = np.partition(values, (below, above))
    return float(ordered[below] + (ordered[above] - ordered[below]) * (place - below))


ROUGH, ROUGHER = 1.5, 1.1


def stands_out(ratio: float, source: float) -> bool:
    """Whether a seam of this `seam_ratio` may click, where the ``source`` in the same places has that
    one: a tick of the source's own is no seam's."""
    return ratio > ROUGH and ratio > ROUGHER * source
