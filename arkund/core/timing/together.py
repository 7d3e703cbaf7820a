"""Hits that fall together: one event of the drummer's, moved as one."""

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from arkund.core.hits.confidence import LIKELY
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, piece_family
from arkund.core.once import once

TOGETHER_S = 0.030
"""Hits of different pieces closer than this were meant together."""

APART_S = 0.004
"""From here on a pair is listed as played apart; from about 8 ms on it is heard as two."""

SURE = LIKELY
"""A hit less certain than this neither leads nor holds anything in place."""

_LEADS = ("snare", "tom", "kick", "hat", "ride", "crash")


@dataclass(frozen=True)
class Event:
    """Hits within `TOGETHER_S` of the first. ``lead`` says where the event falls: the snare,
    because it is loud in overheads and rooms, then tom, kick and cymbals."""

    lead: Hit
    hits: tuple[Hit, ...]

    @once
    def starts_s(self) -> float:
        """The first thing heard of it, a grace note included."""
        return min(h.time_s - (h.grace_s or 0.0) for h in self.hits)

    @once
    def pieces(self) -> tuple[str, ...]:
        return tuple(h.piece for h in self.hits)

    @once
    def ends_s(self) -> float:
        """When its last hit falls."""
        return max(h.time_s for h in self.hits)

    @once
    def kick(self) -> Hit | None:
        """Its hit on the kick, if there is one."""
        return self.of("kick")

    def of(self, family: str) -> Hit | None:
        """Its hit on a piece of this family, if there is one."""
        return next((h for h in self.hits if piece_family(h.piece) == family), None)


def gather(hits: Sequence[Hit]) -> list[Event]:
    """Events of a hit list in order of time. Hits that are not sure stay out."""
    return list(_gathered(tuple(hits)))


# A rule that is tried again and again asks for the same hits each time.
@lru_cache(maxsize=8)
def _gathered(hits: tuple[Hit, ...]) -> tuple[Event, ...]:
    sure = sorted((h for h in hits if h.confidence >= SURE), key=lambda h: h.time_s)
    groups: list[list[Hit]] = []
    for hit in sure:
        fresh = not groups or hit.time_s - groups[-1][0].time_s > TOGETHER_S
        # The same piece twice within the reach is two hits, not one event.
        if fresh or any(h.piece == hit.piece for h in groups[-1]):
            groups.append([])
        groups[-1].append(hit)
    return tuple(Event(_lead(g), tuple(g)) for g in groups)


def _lead(hits: Sequence[Hit]) -> Hit:
    def rank(hit: Hit) -> tuple[int, float]:
        family = piece_family(hit.piece)
        place = _LEADS.index(family) if family in _LEADS else len(_LEADS)
        # A ghost is too soft to lead a loud hit of another shell.
        return (place + (3 if hit.kind == "ghost" else 0), hit.time_s)

    return min(hits, key=rank)


@dataclass(frozen=True)
class Apart:
    """Two hits meant together: ``gap_ms`` positive where the second comes later than the
    leading one. ``kind`` names both pieces' families; ``remedy`` is ``alone`` (the kick's close
    mics can be moved), ``midpoint`` (they cannot be parted) or ``cut`` (two shells at once)."""

    event: Event
    other: Hit
    gap_ms: float
    kind: str
    remedy: str


def played_apart(events: Sequence[Event]) -> list[Apart]:
    """Pairs of one event that lie `APART_S` or more from each other, by time."""
    out = []
    for event in events:
        for other in event.hits:
            gap = other.time_s - event.lead.time_s
            if other is event.lead or abs(gap) < APART_S or other.kind == "ghost":
                continue
            kind = f"{piece_family(event.lead.piece)} + {piece_family(other.piece)}"
            if piece_family(other.piece) == "kick":
                remedy = "alone"
            elif is_shell(other.piece):
                remedy = "cut"
            else:
                remedy = "midpoint"
            out.append(Apart(event, other, round(gap * 1000, 2), kind, remedy))
    return out


def unheard_ms(under_db: float) -> float:
    """How far a piece may be moved alone in its close mics when overheads and rooms hear it
    ``under_db`` below them.

    A second onset as loud as the first is heard from about 2 ms on; each dB that it lies lower
    allows about half a millisecond more, as thresholds for lagging clicks do (the precedence
    effect; Litovsky et al., 1999), to 12 ms at most.
    """
    return float(min(max(2.0 + 0.5 * (under_db - 6.0), 0.0), 12.0))
