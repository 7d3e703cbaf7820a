"""Which mics stand upside down: one sign a mic that agrees with the measured pairs at best.

Every pair says whether two mics agree or oppose each other. With more pairs than mics they vote:
signs are sought that make the weighted agreement largest, first along the strongest pairs (a
maximum spanning tree), then by turning single mics as long as that helps. Only relations are
known, so within each connected group the solution that flips fewer mics is taken.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Protocol


class Relation(Protocol):
    """Two mics, whether they agree (1) or oppose each other (−1), and how sure that is (0–1)."""

    @property
    def mic(self) -> str: ...
    @property
    def reference(self) -> str: ...
    @property
    def polarity(self) -> int: ...
    @property
    def confidence(self) -> float: ...


@dataclass(frozen=True)
class Signs:
    """``sign`` of every mic, 1 or −1; ``support`` −1 to 1: what the mic's pairs say for its sign
    less what they say against it, over all that they say."""

    sign: dict[str, int]
    support: dict[str, float]

    def agrees(self, pair: Relation) -> bool:
        """Whether the solution stands with this pair."""
        return self.sign[pair.mic] * self.sign[pair.reference] == pair.polarity


def weight(confidence: float) -> float:
    """What a pair's vote counts: nothing up to even odds, then by the square of what is over."""
    return max(confidence - 0.5, 0.02) ** 2


def solve_signs(mics: Sequence[str], pairs: Iterable[Relation]) -> Signs:
    """Signs of ``mics`` from ``pairs`` among them; mics without a pair stand as they are."""
    known = [p for p in pairs if p.mic in mics and p.reference in mics]
    sign = dict.fromkeys(mics, 1)
    group = {m: m for m in mics}

    def root(mic: str) -> str:
        while group[mic] != mic:
            mic = group[mic]
        return mic

    for p in sorted(known, key=lambda p: -p.confidence):
        a, b = root(p.mic), root(p.reference)
        if a == b:
            continue
        if sign[p.mic] * sign[p.reference] != p.polarity:
            for m in mics:
                if root(m) == a:
                    sign[m] = -sign[m]
        group[a] = b

    def against(mic: str) -> tuple[float, float]:
        """Weights of the mic's pairs that speak for and against its sign."""
        votes = [
            weight(p.confidence) * sign[p.mic] * sign[p.reference] * p.polarity
            for p in known
            if mic in (p.mic, p.reference)
        ]
        return sum(v for v in votes if v > 0), -sum(v for v in votes if v < 0)

    for _ in range(2 * len(mics)):
        gains = {m: against(m)[1] - against(m)[0] for m in mics}
        worst = max(gains, key=lambda m: gains[m])
        if gains[worst] <= 1e-12:
            break
        sign[worst] = -sign[worst]
    for leader in {root(m) for m in mics}:
        members = [m for m in mics if root(m) == leader]
        if sum(sign[m] < 0 for m in members) * 2 > len(members):
            for m in members:
                sign[m] = -sign[m]
    support = {}
    for m in mics:
        good, bad = against(m)
        support[m] = (good - bad) / (good + bad) if good + bad else 0.0
    return Signs(sign, support)
