"""A hit that overheads know for a tom's belongs to one, even where no mic stands clear of bleed."""

from typing import Any

import numpy as np
import pytest

from arkund.core.hits.choose import unclaimed as module
from arkund.core.hits.choose.unclaimed import unclaimed
from arkund.core.hits.explain.reach import SAID, Paths, Reach
from arkund.core.hits.hear.onsets import FRAME_S, Onsets
from arkund.core.hits.hit import Hit
from arkund.core.hits.weigh.afar import FAMILIES

TIMES = (1.0, 2.0, 3.0, 4.0)


class Heard:
    """Overheads that give each time the same share of every family."""

    def __init__(self, **shares: float) -> None:
        self.row = [shares.get(family, 0.0) for family in FAMILIES]

    def at(self, times: np.ndarray[Any, Any]) -> np.ndarray[Any, Any]:
        return np.tile(self.row, (len(times), 1))


@pytest.fixture
def reach(monkeypatch: pytest.MonkeyPatch) -> Reach:
    """Both toms' mics hear three onsets alike; the second's stands out more of bleed."""
    at = np.array([round(t / FRAME_S) for t in TIMES])
    found = [Onsets(at, np.full(4, 0.3)), Onsets(at + 4, np.full(4, 0.3))]
    nothing = np.zeros((2, 2))
    paths = Paths(nothing, nothing[:, :0])
    over = {"tom_1": -2.0, "tom_2": 1.0}

    def said(reach: Reach, name: str, times: np.ndarray[Any, Any]) -> list[np.ndarray[Any, Any]]:
        values = {"over bleed": over[name], "new by": 20.0}
        return [np.full(len(times), values.get(one, 0.0)) for one in SAID]

    monkeypatch.setattr(module, "said_of_places", said)
    return Reach(["tom_1", "tom_2"], found, [np.zeros(10)] * 2, [], paths, paths)


def times(found: Any) -> dict[str, list[float]]:
    return {name: [round(one.time_s, 2) for one in ones] for name, ones in found.items()}


def test_it_is_the_tom_s_whose_mic_stands_out_most(reach: Reach) -> None:
    found = unclaimed(reach, [], Heard(tom=0.9))  # type: ignore[arg-type]
    assert times(found) == {"tom_2": list(TIMES)}


def test_three_are_too_few_for_a_tom_that_has_no_hit_yet(reach: Reach) -> None:
    one = [Hit("a", "tom_1", 2.004, 100, "accent", 0.9, 0.0)]
    assert "tom_2" not in unclaimed(reach, one, Heard(tom=0.85))  # type: ignore[arg-type]


@pytest.mark.parametrize(("count", "is_hit"), [(2, True), (1, False)])
def test_where_overheads_are_surer_two_are_enough(
    reach: Reach, monkeypatch: pytest.MonkeyPatch, count: int, is_hit: bool
) -> None:
    """However much bleed the paths would let through."""
    monkeypatch.setattr(module, "OVER_DB", 10.0)
    taken = [
        Hit(str(t), "tom_1", t + 0.004, 100, "accent", 0.9, 0.0)
        for t in TIMES[: len(TIMES) - count]
    ]
    found = unclaimed(reach, taken, Heard(tom=0.95))  # type: ignore[arg-type]
    assert ("tom_2" in found) is is_hit
    assert not any(unclaimed(reach, taken, Heard(tom=0.95, kick=0.15)).values())  # type: ignore[arg-type]


def test_what_any_tom_has_already_is_not_claimed_twice(reach: Reach) -> None:
    listed = [
        Hit("a", "tom_1", 2.004, 100, "accent", 0.9, 0.0),
        Hit("b", "tom_2", 7.0, 100, "accent", 0.9, 0.0),
    ]
    found = unclaimed(reach, listed, Heard(tom=0.9))  # type: ignore[arg-type]
    assert times(found) == {"tom_1": [], "tom_2": [1.0, 3.0, 4.0]}


@pytest.mark.parametrize(
    "shares", [{"tom": 0.6}, {"tom": 0.9, "kick": 0.3}, {"tom": 0.9, "snare": 0.3}, {}]
)
def test_what_may_be_another_drum_s_is_left(reach: Reach, shares: dict[str, float]) -> None:
    found = unclaimed(reach, [], Heard(**shares))  # type: ignore[arg-type]
    assert not any(found.values())


def test_without_overheads_nobody_knows(reach: Reach) -> None:
    assert unclaimed(reach, [], None) == {}
