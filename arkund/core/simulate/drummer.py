"""A drummer who reads a chart: patterns in sixteenths, feel, drift, ghosts, fills."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np


@dataclass(frozen=True)
class PlayedHit:
    """One hit as played: ``time_s`` is when the stick touches; ``gain_db`` is a planted fault
    (the same hit, so much too loud)."""

    time_s: float
    piece: str
    velocity: int
    kind: str = "plain"
    gain_db: float = 0.0


@dataclass(frozen=True)
class ChartSection:
    """A run of bars that repeat ``pattern``; the last bar's second half is ``fill`` if given.

    Patterns map a piece to characters that part the bar evenly (sixteen: sixteenths; twelve:
    triplet eighths): ``X`` accent, ``x`` plain, ``g`` ghost, ``o`` open hat, ``.`` nothing.
    """

    name: str
    bars: int
    pattern: dict[str, str]
    fill: dict[str, str] | None = None
    first: dict[str, str] | None = None


@dataclass(frozen=True)
class Feel:
    """Spread in ms of the whole kit's beat and of each limb; habitual lateness per piece in ms;
    ``touch`` scales every velocity."""

    beat_ms: float
    limb_ms: float
    late_ms: dict[str, float]
    touch: float = 1.0


_VELOCITY = {"X": (112, 5), "x": (84, 6), "g": (33, 5), "o": (92, 5)}
_KIND = {"X": "accent", "x": "plain", "g": "ghost", "o": "open"}


def perform(
    chart: Sequence[ChartSection],
    bpm: float,
    feel: Feel,
    lead_in_s: float,
    rng: np.random.Generator,
) -> list[PlayedHit]:
    """The chart as this drummer plays it, sorted by time."""
    bar_s = 4 * 60.0 / bpm
    hits: list[PlayedHit] = []
    bar = 0
    for section in chart:
        for number in range(section.bars):
            last = number == section.bars - 1
            for piece, steps in _bar_of(section, number == 0, last).items():
                for step, mark in enumerate(steps):
                    if mark == ".":
                        continue
                    mean, spread = _VELOCITY[mark]
                    velocity = int(np.clip(round(rng.normal(mean, spread) * feel.touch), 12, 127))
                    at = lead_in_s + (bar + step / len(steps)) * bar_s
                    hits.append(PlayedHit(at, piece, velocity, _KIND[mark]))
            bar += 1
    return _humanise(hits, feel, bar_s / 48, rng)


def _bar_of(section: ChartSection, first: bool, last: bool) -> dict[str, str]:
    bar = dict(section.pattern)
    if first and section.first:
        for piece, steps in section.first.items():
            bar[piece] = steps
            # A crash takes the hand that would have played hat or ride.
            for other in ("hat", "ride"):
                if other in bar and other not in section.first:
                    bar[other] = "." + bar[other][1:]
    if last and section.fill:
        half = len(next(iter(section.fill.values()))) // 2
        rest = "." * half
        kept = {p: s[:half] + rest for p, s in bar.items() if p != "kick"}
        bar = {**bar, **kept}
        for piece, steps in section.fill.items():
            bar[piece] = bar.get(piece, 2 * rest)[:half] + steps[half:]
    return bar


def _humanise(
    hits: list[PlayedHit], feel: Feel, slot_s: float, rng: np.random.Generator
) -> list[PlayedHit]:
    """Hits of one slot of the chart share their lateness, on top of each limb's own."""
    shift: dict[int, float] = {}
    wander = 0.0
    played = []
    for s in sorted(hits, key=lambda s: s.time_s):
        slot = round(s.time_s / slot_s)
        if slot not in shift:
            wander = 0.9 * wander + rng.normal(0, feel.beat_ms * 0.4)
            shift[slot] = wander + rng.normal(0, feel.beat_ms * 0.7)
        ms = shift[slot] + feel.late_ms.get(s.piece, 0.0) + rng.normal(0, feel.limb_ms)
        played.append(replace(s, time_s=s.time_s + ms / 1000))
    return _part_repeats(sorted(played, key=lambda s: s.time_s))


def _part_repeats(hits: list[PlayedHit], least_s: float = 0.045) -> list[PlayedHit]:
    """One limb cannot strike a piece twice within 45 ms; such a hit comes later."""
    last: dict[str, float] = {}
    out = []
    for s in hits:
        at = max(s.time_s, last.get(s.piece, -1.0) + least_s)
        last[s.piece] = at
        out.append(replace(s, time_s=at))
    return out
