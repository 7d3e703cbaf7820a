"""Which mics stand upside down, from pairs that vote."""

from dataclasses import dataclass

import numpy as np
import pytest

from arkund.core.align.signs import solve_signs


@dataclass
class Vote:
    mic: str
    reference: str
    polarity: int
    confidence: float = 0.95


MICS = ["kick_in", "snare_top", "snare_bottom", "overhead_l", "overhead_r", "room_l"]


def _votes(flipped: set[str], rng: np.random.Generator, share: float = 0.8) -> list[Vote]:
    sign = {m: -1 if m in flipped else 1 for m in MICS}
    pairs = [(a, b) for i, a in enumerate(MICS) for b in MICS[:i] if rng.uniform() < share]
    # A chain, so that no mic stands alone.
    pairs += [(a, b) for a, b in zip(MICS[1:], MICS, strict=False) if (a, b) not in pairs]
    return [Vote(a, b, sign[a] * sign[b], rng.uniform(0.7, 1.0)) for a, b in pairs]


@pytest.mark.parametrize("seed", range(6))
def test_two_flipped_mics_are_named(seed: int) -> None:
    rng = np.random.default_rng(seed)
    flipped = set(rng.choice(MICS, 2, replace=False))
    found = solve_signs(MICS, _votes(flipped, rng))
    assert {m for m, s in found.sign.items() if s < 0} == flipped
    assert min(found.support.values()) == pytest.approx(1.0)


def test_one_wrong_pair_is_outvoted_and_lowers_support() -> None:
    votes = _votes({"snare_bottom"}, np.random.default_rng(1), share=1.0)
    wrong = next(v for v in votes if {v.mic, v.reference} == {"room_l", "kick_in"})
    wrong.polarity, wrong.confidence = -wrong.polarity, 0.75
    found = solve_signs(MICS, votes)
    assert {m for m, s in found.sign.items() if s < 0} == {"snare_bottom"}
    assert not found.agrees(wrong)
    assert 0 < found.support["room_l"] < 1


def test_the_fewest_flips_are_taken() -> None:
    """Four of six upside down cannot be told from the other two: those are named."""
    flipped = {"kick_in", "snare_top", "overhead_l", "overhead_r"}
    found = solve_signs(MICS, _votes(flipped, np.random.default_rng(2)))
    assert {m for m, s in found.sign.items() if s < 0} == set(MICS) - flipped


def test_a_mic_without_a_pair_stands_as_it_is() -> None:
    found = solve_signs([*MICS, "hat"], _votes(set(), np.random.default_rng(3)))
    assert found.sign["hat"] == 1
    assert found.support["hat"] == 0
