"""Whether a drum is hit at all, and how far bleed reaches by two paths."""

import numpy as np
import pytest

from arkund.core.hits.choose.believing import FROM_AFAR, SEEN, SURE, is_believed
from arkund.core.hits.choose.floor import ANCHOR_DB, Clear, is_hit_surely
from arkund.core.hits.explain.reach import BOTH_WAYS_DB, SPREAD_DB, reach_of

RATE = 48_000
SURELY, HARDLY = np.full(6, SURE + 0.02), np.full(6, SURE - 0.1)
IN_PART = np.array([0.0, 0.0, 0.0, SEEN + 0.1, SEEN + 0.1, SEEN + 0.1])
UNSEEN = np.full(6, min(SEEN, FROM_AFAR) - 0.1)


@pytest.mark.parametrize(
    ("confidence", "afar", "wanted"),
    [
        (SURELY, IN_PART, True),
        (SURELY, UNSEEN, False),
        (HARDLY, IN_PART, False),
        (SURELY, None, True),
        (HARDLY, None, False),
    ],
)
def test_a_tom_is_hit_where_it_shows_itself(confidence, afar, wanted) -> None:  # type: ignore[no-untyped-def]
    assert is_believed("tom_1", confidence, afar) is wanted


def test_a_hat_that_overheads_never_see_is_not_hit_and_kicks_are_not_doubted() -> None:
    assert not is_believed("hat", SURELY, UNSEEN)
    assert is_believed("hat", HARDLY, np.full(6, FROM_AFAR + 0.1))
    assert is_believed("kick", HARDLY, UNSEEN)
    assert is_believed("tom_1", np.zeros(0), None)


def test_two_hits_clear_of_bleed_are_proof_and_one_where_it_is_beyond_doubt() -> None:
    little, much = Clear(1.0, ANCHOR_DB - 1, 0.0), Clear(2.0, ANCHOR_DB + 1, 0.0)
    assert is_hit_surely([little, little])
    assert is_hit_surely([much])
    assert not is_hit_surely([little])
    assert not is_hit_surely([])


def test_a_path_that_is_hardly_known_is_bounded_by_the_way_back() -> None:
    """One tom is hit thirty times, 6 dB down in its neighbour's mic; the neighbour three times, each with
    it, so that its own path says nothing. Both ways take off 10 dB, whatever the gains."""
    rng = np.random.default_rng(4)
    shape = np.exp(-np.arange(3000) / 400) * np.sin(np.arange(3000) * 0.06)
    one, two = (1e-4 * rng.standard_normal(RATE * 20) for _ in range(2))
    for n in range(30):
        at = RATE // 2 + n * 30_000
        one[at : at + 3000] += 0.4 * shape
        two[at + 60 : at + 3060] += 0.2 * shape
        if n % 10 == 5:
            two[at - 20 : at + 2980] += 0.3 * shape
    reach = reach_of({"tom_1": one.astype(np.float32), "tom_2": two.astype(np.float32)}, [], RATE)
    to_two, to_one = reach.paths.close[1, 0] - SPREAD_DB, reach.paths.close[0, 1] - SPREAD_DB
    assert to_two == pytest.approx(-6.0, abs=1.0)
    assert to_one <= -BOTH_WAYS_DB - to_two + 1.0
