"""Where each hit goes: rules by span, the drummer's feel or the exact line, single moves.

Moves are reckoned from the hits as played, always, so that changing a rule never stacks one
move on another. A hit that was meant on no clear line stays where it is until it is said.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid
from arkund.core.timing.meant import DIVISIONS, habits, lines_near, meant_lines
from arkund.core.timing.together import APART_S, Event, gather

LEAST_MOVE_S = 0.0002
EVEN_S = 0.0005
CLOSEST = 0.5
"""Two events come no closer than this share of the distance at which they were played."""


@dataclass(frozen=True)
class Rule:
    """How a span of bars is put in time. ``strength`` 0–1; hits within ``window_ms`` of their
    place are left alone; ``swing`` 0.5–0.75."""

    start_bar: int
    bars: int
    school: str = "feel"
    division: str = "1/16"
    strength: float = 1.0
    window_ms: float = 0.0
    swing: float = 0.5


@dataclass(frozen=True)
class Wish:
    """What was said of single hits, by hit id: a time in s to put them at, or the line (in
    quarters since bar 1) on which they were meant."""

    to_s: Mapping[str, float]
    lines: Mapping[str, float]
    kick_alone_ms: float = 0.0


@dataclass(frozen=True)
class Placement:
    """One event: its line (quarters; None outside every rule), where it is wanted and where it
    goes, in s; by which rule; whether its line is clear; how far the kick's own mics follow
    further, in s."""

    event: Event
    line: float | None
    target_s: float
    to_s: float
    rule: str
    clear: bool
    kick_s: float = 0.0

    @property
    def from_s(self) -> float:
        return self.event.lead.time_s

    @property
    def shift_s(self) -> float:
        return self.to_s - self.from_s


def place_events(
    hits: Sequence[Hit],
    grid: Grid,
    rules: Sequence[Rule],
    wish: Wish,
    others: Sequence[Sequence[Hit]] = (),
) -> list[Placement]:
    """Every event of the song with the place it goes to, in order of time.

    ``hits`` and ``others`` (other takes) are as played, in the song's time. Later rules override
    earlier ones where their bars overlap; what was said of a single hit overrides every rule.
    """
    events = gather(hits)
    out = [Placement(e, None, e.lead.time_s, e.lead.time_s, "", True) for e in events]
    for rule in rules:
        _apply(rule, events, out, grid, wish, others)
    if wish.to_s:
        for n, event in enumerate(events):
            told = next((wish.to_s[h.id] for h in event.hits if h.id in wish.to_s), None)
            if told is not None:
                out[n] = replace(out[n], target_s=told, to_s=told, rule="by hand", clear=True)
    out = _apart_enough(out)
    if wish.kick_alone_ms > 0:
        out = [_with_kick(p, wish.kick_alone_ms / 1000) for p in out]
    return out


def _apply(
    rule: Rule,
    events: Sequence[Event],
    out: list[Placement],
    grid: Grid,
    wish: Wish,
    others: Sequence[Sequence[Hit]],
) -> None:
    """Put a rule's placements in ``out``. What the pattern is, is read from the whole song."""
    leads = [e.lead for e in events]
    meant = meant_lines(leads, grid, rule.division, rule.swing, others)
    lines, clear = meant.lines.copy(), meant.clear.copy()
    for n, lead in enumerate(leads):
        if lead.id in wish.lines:
            lines[n], clear[n] = wish.lines[lead.id], True
    feel = (
        habits([h for h, c in zip(leads, clear, strict=True) if c], grid, lines[clear])
        if rule.school == "feel"
        else {}
    )
    # A little early, so that a first hit played ahead of the bar belongs to it.
    first = grid.quarters_of_bar(rule.start_bar) - 0.1
    last = grid.quarters_of_bar(rule.start_bar + rule.bars) - 0.1
    played = np.array([lead.time_s for lead in leads])
    phases = np.round(lines % 1, 4).tolist()
    usual = (
        [
            feel.get((lead.piece, phase), feel.get((lead.piece, -1.0), 0.0))
            for lead, phase in zip(leads, phases, strict=True)
        ]
        if feel
        else 0.0
    )
    targets = grid.seconds_of(lines) + usual
    off = targets - played
    stays = (np.abs(off) * 1000 <= rule.window_ms) | (rule.strength * np.abs(off) < LEAST_MOVE_S)
    places = np.where(stays, played, played + rule.strength * off).tolist()
    name = f"{rule.school} {rule.division}"
    for n in np.flatnonzero((lines >= first) & (lines < last)).tolist():
        line, from_s = float(lines[n]), leads[n].time_s
        out[n] = (
            Placement(events[n], line, float(targets[n]), places[n], name, True)
            if clear[n]
            else Placement(events[n], line, from_s, from_s, "unclear", False)
        )


def _apart_enough(placements: list[Placement]) -> list[Placement]:
    """Events kept in order: of two that would come too close the one that goes further stays and
    is asked about, and then, if need be, the other; what was put by hand stays where it was put."""
    out = list(placements)
    from_s, to_s = [p.from_s for p in out], [p.to_s for p in out]
    for n in range(1, len(out)):
        closest = CLOSEST * (from_s[n] - from_s[n - 1])
        if to_s[n] - to_s[n - 1] >= closest:
            continue
        for m in sorted((n - 1, n), key=lambda m: -abs(to_s[m] - from_s[m])):
            if to_s[n] - to_s[n - 1] >= closest:
                break
            if out[m].rule != "by hand":
                out[m] = replace(
                    out[m], target_s=from_s[m], to_s=from_s[m], rule="too close", clear=False
                )
                to_s[m] = from_s[m]
    return out


def _with_kick(placement: Placement, limit_s: float) -> Placement:
    """The kick's own way to the hit that leads it, as far as it goes unheard."""
    kick = placement.event.kick
    lead = placement.event.lead
    if kick is None or kick is lead:
        return placement
    gap = lead.time_s - kick.time_s
    if abs(gap) < APART_S:
        return placement
    return replace(placement, kick_s=float(np.clip(gap, -limit_s, limit_s)))


def magnet_s(at_s: float, grid: Grid, division: str, swing: float, reach_s: float) -> float:
    """The line of a division within ``reach_s`` of a time, or the time itself."""
    place = grid.quarters_at(np.array([at_s]))
    line = float(grid.seconds_of(lines_near(place, division, swing))[0])
    return line if abs(line - at_s) <= reach_s else at_s


def usual_spread_ms(hits: Sequence[Hit], grid: Grid, division: str) -> float:
    """Half the width in ms within which about nine in ten hits lie around the drummer's own
    places: what strays further stands out of the feel."""
    return _usual_spread_ms(tuple(hits), grid, division)


@lru_cache(maxsize=8)
def _usual_spread_ms(hits: tuple[Hit, ...], grid: Grid, division: str) -> float:
    bars = grid.bars_in(max((h.time_s for h in hits), default=0.0))
    placed = place_events(hits, grid, [Rule(1, bars, "feel", division)], Wish({}, {}))
    off = [abs(p.target_s - p.from_s) * 1000 for p in placed if p.clear and p.line is not None]
    return float(1.645 * 1.4826 * np.median(off)) if off else 0.0


def share_to_move(placements: Sequence[Placement], over_ms: float = 12.0) -> tuple[float, float]:
    """``(share of events that stray more than over_ms from their target, their median way in
    ms)``: past saving where both are large."""
    ruled = [p for p in placements if p.line is not None and p.clear]
    off = np.array([abs(p.target_s - p.from_s) * 1000 for p in ruled])
    far = off[off > over_ms]
    return (len(far) / len(off) if len(off) else 0.0), float(np.median(far)) if len(far) else 0.0


def best_division(hits: Sequence[Hit], grid: Grid) -> str:
    """The coarsest division on which nearly all hits lie: what a span is put in time by."""
    loud = [h.time_s for h in hits if h.kind != "ghost"]
    if len(loud) < 8:
        return "1/16"
    places = grid.quarters_at(np.array(loud))

    def off(division: str) -> float:
        steps = DIVISIONS[division]
        return float(np.mean(np.abs(places - np.rint(places * steps) / steps) * 60 / grid.bpm))

    straight = {d: off(d) for d in ("1/8", "1/16")}
    triplet = off("1/8t")
    if triplet < 0.6 * straight["1/16"]:
        return "1/8t"
    return "1/8" if straight["1/8"] <= 1.2 * straight["1/16"] + EVEN_S else "1/16"
