"""Matching: which good hit can stand in for a bad one, in all mics at once."""

from collections.abc import Sequence
from dataclasses import dataclass

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, piece_family

TOGETHER_S = 0.015
RINGS_S = 1.5
RINGING = ("crash", "ride", "cymbal")
LEAST_SURE = 0.6
LOUD = 20
"""A velocity apart by so much is as bad as another piece struck along."""


@dataclass(frozen=True)
class Match:
    """A hit that can replace another: how much they differ (0: not at all), and in what."""

    hit: Hit
    distance: float
    reasons: tuple[str, ...]


def matches(target: Hit, hits: Sequence[Hit]) -> list[Match]:
    """Hits of the target's piece by how well they stand in for it, the best first.

    Compared are velocity, what is struck along within 15 ms, which cymbals still ring from the last
    1.5 s, and how long the hit has until the next one. Flams, rolls and hits that are less
    sure than 0.6 stand in for nothing.
    """
    ordered = sorted(hits, key=lambda h: h.time_s)
    wanted = _surroundings(target, ordered)
    out = []
    for hit in ordered:
        if hit.id == target.id or hit.piece != target.piece or hit.kind in ("flam", "roll"):
            continue
        if hit.confidence < LEAST_SURE:
            continue
        along, ringing, gap = _surroundings(hit, ordered)
        apart = abs(hit.velocity - target.velocity)
        short = max(wanted[2] - gap, 0.0)
        distance = (
            apart / LOUD + len(along ^ wanted[0]) + 0.4 * len(ringing ^ wanted[1]) + 4 * short
        )
        out.append(
            Match(hit, round(distance, 3), _reasons(hit, target, along, ringing, short, wanted))
        )
    return sorted(out, key=lambda m: (m.distance, abs(m.hit.time_s - target.time_s)))


Surroundings = tuple[frozenset[str], frozenset[str], float]


def _surroundings(hit: Hit, ordered: Sequence[Hit]) -> Surroundings:
    """What is struck along with a hit, which cymbals ring, and how long until the next one (half
    a second at most)."""
    along, ringing, gap = set(), set(), 0.5
    for other in ordered:
        apart = other.time_s - hit.time_s
        if other.id == hit.id or apart < -RINGS_S:
            continue
        if apart > 0.5:
            break
        if abs(apart) <= TOGETHER_S:
            along.add(other.piece)
        elif apart < 0 and piece_family(other.piece) in RINGING:
            ringing.add(other.piece)
        elif apart > 0:
            gap = min(gap, apart)
    return frozenset(along), frozenset(ringing), gap


def _reasons(
    hit: Hit,
    target: Hit,
    along: frozenset[str],
    ringing: frozenset[str],
    short: float,
    wanted: Surroundings,
) -> tuple[str, ...]:
    out = [f"velocity {hit.velocity} for {target.velocity}"]
    if along == wanted[0]:
        out.append(f"{_named(along)} along in both" if along else "alone, as there")
    else:
        out.append(f"{_named(along) or 'nothing'} along, {_named(wanted[0]) or 'nothing'} there")
    if ringing != wanted[1]:
        out.append(f"{_named(ringing) or 'no cymbal'} ringing, {_named(wanted[1]) or 'none'} there")
    if short > 0.02:
        out.append(f"{1000 * short:.0f} ms shorter until the next hit")
    return tuple(out)


def _named(pieces: frozenset[str]) -> str:
    return " and ".join(label(piece) for piece in sorted(pieces))
