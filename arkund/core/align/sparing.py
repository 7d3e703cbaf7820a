"""Shifts that spare sums: one solution for the whole kit may close a gap and still make a sum thinner,
since what two mics hear of a cymbal, or of a drum from two sides, is not the same sound late. Such a
mic, and with it all of its drum, stands elsewhere, or where it was."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from arkund.core.align.sums import Together
from arkund.core.kit.roles import piece_family

MOST_LOST_DB = 0.5
"""A sum that a shift makes thinner by more than that is not worth the shift."""

CLEARLY_LESS_DB = 0.1

LOWEST_BAND = {"kick": 0, "tom": 0, "snare": 1}
"""The lowest of `BANDS_HZ` that a piece fills; cymbals the third."""


@dataclass(frozen=True)
class Added:
    """A pair that is heard as a sum, ``delay`` samples apart as recorded; ``sign`` -1 where one of the
    two is to be flipped."""

    piece: str
    mic: str
    reference: str
    delay: float
    together: Together
    sign: int = 1

    def lost_db(self, shift: float) -> float:
        """What the sum loses in its lowest band with ``mic`` shifted against the reference."""
        band = LOWEST_BAND.get(piece_family(self.piece), 2)
        return self.together.levels_db()[band] - self.together.levels_db(shift, self.sign)[band]


def spared(
    shifts: Mapping[str, float],
    still: Mapping[str, float],
    sums: Sequence[Added],
    bodies: Mapping[str, str],
) -> dict[str, float]:
    """Shifts in samples by mic of which none makes a sum thinner by more than `MOST_LOST_DB` where
    another place does not: where a pair of the mic closes, half the way, or where it was recorded.

    ``still`` has where mics stand that are not shifted; all others are as recorded. Mics of one body (``bodies`` names
    each mic's) move together; what is added within a body is not looked at. The body that costs most is
    looked at first, each once.
    """
    found = {**still, **shifts}
    members: dict[str, list[str]] = {}
    for mic in shifts:
        members.setdefault(bodies.get(mic, mic), []).append(mic)
    outside = {
        body: [a for a in sums if (a.mic in own) != (a.reference in own)]
        for body, own in members.items()
    }

    def worst(body: str, by: float) -> float:
        places = found | {mic: found[mic] + by for mic in members[body]}
        return max(
            (
                a.lost_db(places.get(a.mic, 0.0) - places.get(a.reference, 0.0))
                for a in outside[body]
            ),
            default=0.0,
        )

    left = set(members)
    while left:
        costs = {body: worst(body, 0.0) for body in left}
        body = max(sorted(left), key=costs.__getitem__)
        left.remove(body)
        if costs[body] <= MOST_LOST_DB:
            break
        closing = [
            (found.get(a.reference, 0.0) - a.delay - found[a.mic])
            if a.mic in members[body]
            else (found.get(a.mic, 0.0) + a.delay - found[a.reference])
            for a in outside[body]
        ]
        back = -found[members[body][0]]
        best = min([back, back / 2, *closing], key=lambda by: (worst(body, by), abs(by)))
        if worst(body, best) < costs[body] - CLEARLY_LESS_DB:
            found |= {mic: round(found[mic] + best, 2) for mic in members[body]}
    return {mic: found[mic] for mic in shifts}
