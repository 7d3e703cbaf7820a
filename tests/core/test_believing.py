"""Whether a drum is hit at all, and how far bleed reaches by two paths."""

import numpy as np
import pytest

from arkund.core.hits.choose.believing import CLEAR_DB, FROM_AFAR, SURE, is_believed
from arkund.core.hits.explain.reach import BOTH_WAYS_DB, SPREAD_DB, reach_of

RATE = 48_000
SURELY, HARDLY = np.full(6, SURE + 0.02), np.full(6, SURE - 0.1)
SEEN, UNSEEN = np.full(6, FROM_AFAR + 0.1), np.full(6, FROM_AFAR - 0.1)
CLEAR, BURIED = np.full(6, CLEAR_DB + 1), np.full(6, -2.0)


@pytest.mark.parametrize(
    ("confidence", "afar", "over", "wanted"),
    [
        (SURELY, SEEN, BURIED, True),
        (SURELY, UNSEEN, BURIED, False),
        (HARDLY, SEEN, BURIED, False),
        (HARDLY, UNSEEN, CLEAR, True),
        (SURELY, None, BURIED, True),
        (HARDLY, None, BURIED, False),
    ],
)
def test_a_tom_is_hit_where_it_shows_itself(confidence, afar, over, wanted) -> None:  # type: ignore[no-untyped-def]
    assert is_believed("tom_1", confidence, afar, over) is wanted


def test_one_clear_moment_among_many_hits_is_no_proof() -> None:
    over = BURIED.copy()
    over[0] = 20.0
    assert not is_believed("tom_1", HARDLY, UNSEEN, over)
    assert is_believed("tom_1", HARDLY[:1], UNSEEN[:1], over[:1])


def test_a_hat_that_overheads_never_see_is_not_hit_and_kicks_are_not_doubted() -> None:
    assert not is_believed("hat", SURELY, UNSEEN, CLEAR)
    assert is_believed("hat", HARDLY, SEEN, BURIED)
    assert is_believed("kick", HARDLY, UNSEEN, BURIED)
    assert is_believed("tom_1", np.zeros(0), None, np.zeros(0))


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
