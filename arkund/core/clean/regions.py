"""The gate by hand: spans of a mic that pass, each with its fades, instead of a rule.

Regions come from what a gate decided (`derived`) and are then moved, split, joined and drawn. What a
hand has set stays where the rest is derived anew (`derived_around`).
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise, zip_longest
from typing import Literal

import numpy as np

from arkund.core.clean.gate import Envelope, Openings, Timing
from arkund.core.errors import ArkundError

Fade = Literal["decibels", "straight", "smooth"]
"""How a fade runs: straight in dB, straight in amplitude, or along half a cosine."""

FADE_POINTS = 16
"""Fades that are not straight in dB are drawn by so many lines that are."""

LEAST_FADE_DB = -80.0
OPEN_DB = -3.0
"""A region that passes at more than this counts as open."""


@dataclass(frozen=True)
class Span:
    """``frames`` samples from sample ``at`` that pass at ``gain_db``. The fades, in samples, lie
    within; where the span before ends just there, ``fade_in`` leads from its gain to this one's."""

    at: int
    frames: int
    fade_in: int = 0
    fade_out: int = 0
    gain_db: float = 0.0
    by_hand: bool = False

    @property
    def stop(self) -> int:
        """The first sample after it."""
        return self.at + self.frames


def complaint(spans: Sequence[tuple[str, Span]]) -> str:
    """What is wrong with named spans, in words; empty where nothing is."""
    ordered = sorted(spans, key=lambda one: one[1].at)
    for name, span in ordered:
        if span.fade_in + span.fade_out > span.frames:
            return (
                f"region {name} fades for {span.fade_in + span.fade_out} samples and lasts "
                f"{span.frames}"
            )
    for (before, one), (name, other) in pairwise(ordered):
        if other.at < one.stop:
            return f"region {name} begins before region {before} ends"
    return ""


def region_envelope(spans: Sequence[Span], range_db: float, fade: Fade) -> Envelope:
    """The gain of spans that do not overlap, ``range_db`` in between."""
    points: list[tuple[float, float]] = [(0.0, range_db)]
    here, level = 0.0, range_db
    ordered = sorted(spans, key=lambda s: s.at)
    for span, following in zip_longest(ordered, ordered[1:]):
        start = level if here == span.at and span is not ordered[0] else range_db
        points += _fade(span.at, span.at + span.fade_in, start, span.gain_db, fade)
        touches = following is not None and following.at == span.stop
        if touches:
            points.append((span.stop, span.gain_db))
        else:
            points += _fade(span.stop - span.fade_out, span.stop, span.gain_db, range_db, fade)
        here, level = float(span.stop), span.gain_db
    return _strictly_rising(points)


def _fade(
    start: float, stop: float, first_db: float, last_db: float, fade: Fade
) -> list[tuple[float, float]]:
    """Points from one gain to another. Without length it is one sample long."""
    if stop <= start:
        return [(start - 1, first_db), (start, last_db)]
    if fade == "decibels" or first_db == last_db:
        return [(start, first_db), (stop, last_db)]
    share = np.linspace(0, 1, FADE_POINTS + 1)
    if fade == "smooth":
        share = 0.5 - 0.5 * np.cos(np.pi * share)
    low, high = (10 ** (max(db, LEAST_FADE_DB) / 20) for db in (first_db, last_db))
    levels = 20 * np.log10(low + share * (high - low))
    places = np.linspace(start, stop, FADE_POINTS + 1)
    return list(zip(places.tolist(), levels.tolist(), strict=True))


def _strictly_rising(points: list[tuple[float, float]]) -> Envelope:
    """An envelope of points in order; of two in one place the later counts."""
    kept = [points[0]]
    for place, gain in points[1:]:
        if place > kept[-1][0]:
            kept.append((place, gain))
        else:
            kept[-1] = (kept[-1][0], gain)
    at, gains = np.array(kept, np.float64).T
    return Envelope(at, gains)


def region_openings(spans: Sequence[Span]) -> Openings:
    """Where spans that are open begin and end, ``(n, 2)``."""
    open_ones = sorted((s.at, s.stop) for s in spans if s.gain_db > OPEN_DB)
    return np.array(open_ones, np.int64).reshape(-1, 2)


def derived(openings: Openings, timing: Timing, frames: int) -> list[Span]:
    """A span for each of a gate's openings: from where it begins to open to where it has closed.
    Openings that meet while the gate closes become one."""
    joined: list[list[int]] = []
    for opened, closed in openings.tolist():
        start = max(opened - timing.lookahead, 0)
        full = closed + timing.hold
        if joined and start <= joined[-1][1] + timing.release:
            joined[-1][1] = max(joined[-1][1], full)
        else:
            joined.append([start, full])
    spans = []
    for start, full in joined:
        stop = min(full + timing.release, frames)
        if stop > start:
            room = stop - start
            rise = min(timing.attack, room // 2)
            spans.append(Span(start, room, rise, min(stop - min(full, stop), room - rise)))
    return spans


def derived_around(new: Sequence[Span], old: Sequence[Span]) -> list[Span]:
    """Newly derived spans beside those of the old that a hand has set; where they meet, the hand's
    stay and the new ones go."""
    own = [s for s in old if s.by_hand]
    free = [s for s in new if not any(s.at < o.stop and o.at < s.stop for o in own)]
    return sorted([*own, *free], key=lambda s: s.at)


Spans = Mapping[str, Span]
"""Spans by name, in any order, that do not overlap."""


def named(spans: Sequence[Span]) -> dict[str, Span]:
    """Spans with names of their own, in order."""
    return {f"r{n}": span for n, span in enumerate(sorted(spans, key=lambda s: s.at), 1)}


def with_edge(spans: Spans, name: str, edge: Literal["in", "out"], at: int) -> dict[str, Span]:
    """One edge of a span at another sample, no farther than its neighbours and its other edge;
    fades that no longer fit become shorter. Raises `ArkundError` for an unknown name."""
    span = _span(spans, name)
    before = max((s.stop for s in spans.values() if s.stop <= span.at), default=0)
    after = min((s.at for s in spans.values() if s.at >= span.stop), default=None)
    start, stop = span.at, span.stop
    if edge == "in":
        start = min(max(at, before), stop - 1)
    else:
        stop = max(at if after is None else min(at, after), start + 1)
    return {**spans, name: _fitted(span, start, stop)}


def with_split(spans: Spans, name: str, at: int) -> dict[str, Span]:
    """A span in two at a sample; they touch, so nothing is heard of it until one is changed. Raises
    `ArkundError` where the sample is not inside."""
    span = _span(spans, name)
    if not span.at < at < span.stop:
        raise ArkundError("Put the cursor inside of the region to split it there.")
    left = replace(_fitted(span, span.at, at), fade_out=0)
    right = replace(_fitted(span, at, span.stop), fade_in=0)
    return {**spans, name: left, _free_name(spans): right}


def with_joined(spans: Spans, name: str) -> dict[str, Span]:
    """A span and the one after it as one, as loud as the first. Raises `ArkundError` for the last."""
    span = _span(spans, name)
    following = sorted((s.at, n) for n, s in spans.items() if s.at >= span.stop)
    if not following:
        raise ArkundError("This is the last region; there is none after it to join.")
    other = spans[following[0][1]]
    whole = _fitted(replace(span, fade_out=other.fade_out), span.at, other.stop)
    return {n: s for n, s in {**spans, name: whole}.items() if n != following[0][1]}


def with_drawn(spans: Spans, at: int, stop: int, like: Timing) -> dict[str, Span]:
    """A new span with a gate's attack and release as its fades. Raises `ArkundError` where it has no
    length or lies over another."""
    if stop <= at:
        raise ArkundError("A region ends after it begins.")
    if any(s.at < stop and at < s.stop for s in spans.values()):
        raise ArkundError("There is a region here already; split it or move its edges.")
    drawn = _fitted(Span(at, stop - at, like.attack, like.release), at, stop)
    return {**spans, _free_name(spans): drawn}


def without(spans: Spans, name: str) -> dict[str, Span]:
    """All spans but one. Raises `ArkundError` for an unknown name."""
    _span(spans, name)
    return {n: s for n, s in spans.items() if n != name}


def _span(spans: Spans, name: str) -> Span:
    if name not in spans:
        raise ArkundError("This region is gone; reload the page.")
    return spans[name]


def _free_name(spans: Spans) -> str:
    return next(name for n in range(1, len(spans) + 2) if (name := f"r{n}") not in spans)


def _fitted(span: Span, start: int, stop: int) -> Span:
    """A span by hand between two samples, its fades no longer than it is."""
    frames = stop - start
    rise = min(span.fade_in, frames)
    return replace(
        span,
        at=start,
        frames=frames,
        fade_in=rise,
        fade_out=min(span.fade_out, frames - rise),
        by_hand=True,
    )
