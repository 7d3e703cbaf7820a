"""Shifts that spare sums: one solution for the whole kit may close a gap and still make a sum thinner,
since what two mics hear of a cymbal, or of a drum from two sides, is not the same sound late. Such a
mic stands elsewhere, or where it was."""

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
    shifts: Mapping[str, float], now: Mapping[str, float], sums: Sequence[Added]
) -> dict[str, float]:
    """Shifts in samples by mic of which none makes a sum thinner by more than `MOST_LOST_DB` where
    another place does not: where a pair of the mic closes, half the way, or where it stands ``now``.

    ``now`` has the delays of all mics, those that are not shifted too. The mic that costs most is
    looked at first, each once.
    """
    found = {**now, **shifts}

    def worst(mic: str, at: float) -> float:
        places = {**found, mic: at}
        return max(
            (
                a.lost_db(places[a.mic] - now[a.mic] - places[a.reference] + now[a.reference])
                for a in sums
                if mic in (a.mic, a.reference)
            ),
            default=0.0,
        )

    left = set(shifts)
    while left:
        costs = {mic: worst(mic, found[mic]) for mic in left}
        mic = max(sorted(left), key=costs.__getitem__)
        left.remove(mic)
        if costs[mic] <= MOST_LOST_DB:
            break
        closing = [
            found[a.reference] - a.delay if a.mic == mic else found[a.mic] + a.delay
            for a in sums
            if mic in (a.mic, a.reference)
        ]
        places = [now[mic], (now[mic] + found[mic]) / 2, *closing]
        best = min(places, key=lambda at: (worst(mic, at), abs(at - shifts[mic])))
        if worst(mic, best) < costs[mic] - CLEARLY_LESS_DB:
            found[mic] = round(best, 2)
    return {mic: found[mic] for mic in shifts}
