"""Whether a drum is hit at all, and how far bleed reaches by two paths."""

import numpy as np
import pytest

from arkund.core.hits.choose.believing import (
    ALONE,
    BY_ITSELF,
    CLEAR_MANY,
    FROM_AFAR,
    QUITE_SURE,
    SEEN,
    SEEN_MOSTLY,
    SEEN_USUALLY,
    SEEN_WITH_ONE,
    SURE,
    is_believed,
    most_with_one,
    only_echoes,
    stand_clear,
)
from arkund.core.hits.choose.floor import ANCHOR_DB, Clear, is_hit_surely
from arkund.core.hits.explain.reach import BOTH_WAYS_DB, SPREAD_DB, reach_of
from arkund.core.hits.hit import Hit

RATE = 48_000
SURELY, HARDLY = np.full(6, SURE + 0.02), np.full(6, SURE - 0.1)
IN_PART = np.array([0.0, 0.0, 0.0, SEEN + 0.1, SEEN + 0.1, SEEN + 0.1])
UNSEEN = np.full(6, min(SEEN, FROM_AFAR) - 0.1)


@pytest.mark.parametrize(
    ("confidence", "afar", "with_one", "wanted"),
    [
        (SURELY, IN_PART, 0.8, True),
        (SURELY, IN_PART, 1.0, False),
        (SURELY, np.full(6, SEEN_WITH_ONE), 1.0, True),
        (SURELY, UNSEEN, 0.8, False),
        (HARDLY, IN_PART, 0.8, False),
        (SURELY, None, 1.0, True),
        (HARDLY, None, 1.0, False),
    ],
)
def test_a_tom_is_hit_where_it_shows_itself(confidence, afar, with_one, wanted) -> None:  # type: ignore[no-untyped-def]
    assert is_believed("tom_1", confidence, afar, with_one) is wanted


SEEN_WELL = np.full(6, SEEN_USUALLY + 0.1)


@pytest.mark.parametrize(
    ("confidence", "afar", "with_one", "wanted"),
    [
        (HARDLY, SEEN_WELL, BY_ITSELF - 0.1, True),
        (HARDLY, SEEN_WELL, 1.0, False),
        (HARDLY[:2], SEEN_WELL[:2], 0.0, False),
        (SURELY, UNSEEN, ALONE, True),
        (SURELY, UNSEEN, ALONE + 0.1, False),
        (HARDLY, UNSEEN, 0.0, False),
    ],
)
def test_a_tom_that_falls_with_no_other_piece_needs_less_to_show(  # type: ignore[no-untyped-def]
    confidence, afar, with_one, wanted
) -> None:
    assert is_believed("tom_1", confidence, afar, with_one) is wanted


def test_how_many_hits_fall_with_one_other_piece() -> None:
    own = np.array([1.0, 2.0, 3.0, 4.0])
    kick, snare = np.array([1.005, 2.0, 2.99]), np.array([4.0])
    assert most_with_one(own, [kick, snare, np.zeros(0)]) == 0.75
    assert most_with_one(own, []) == 0.0


def test_a_hat_that_overheads_never_see_is_not_hit() -> None:
    assert not is_believed("hat", SURELY, UNSEEN)
    assert is_believed("hat", HARDLY, np.full(6, FROM_AFAR + 0.1))
    assert is_believed("tom_1", np.zeros(0), None)


@pytest.mark.parametrize("piece", ["kick", "snare"])
def test_a_kick_or_snare_without_a_sure_hit_rests(piece: str) -> None:
    assert is_believed(piece, np.full(6, QUITE_SURE), UNSEEN)
    assert is_believed(piece, HARDLY, np.full(6, SEEN_MOSTLY))
    assert not is_believed(piece, HARDLY, UNSEEN)


@pytest.mark.parametrize("piece", ["kick", "snare"])
def test_a_kick_or_snare_that_no_list_is_sure_of_needs_several_clear_hits(piece: str) -> None:
    far_over = Clear(1.0, ANCHOR_DB + 1, 0.0)
    assert stand_clear("tom_1", [far_over])
    assert not stand_clear(piece, [far_over] * (CLEAR_MANY - 1))
    assert stand_clear(piece, [far_over] * CLEAR_MANY)


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


def _hits(piece: str, times: list[float], confidence: float = 0.9) -> list[Hit]:
    return [Hit(f"{piece}{t}", piece, t, 100, "accent", confidence, 0.0) for t in times]


OTHER = _hits("tom_1", [1.0, 2.0, 3.0, 4.0])


def test_a_tom_that_falls_with_others_alone_is_an_echo() -> None:
    echo = _hits("tom_2", [1.002, 2.002, 3.002], 0.8)
    assert only_echoes([*OTHER, *echo], []) == {"tom_2"}
    # Of two that echo each other the surer one stays.
    assert only_echoes([*OTHER[:3], *echo], []) == {"tom_2"}


@pytest.mark.parametrize(
    ("own", "clear"),
    [
        ([1.002, 2.002, 3.5], []),  # once it is alone
        ([1.002, 2.002, 3.002], ["tom_2"]),  # one of its hits is clear of bleed
        ([5.0, 6.0, 7.0], []),  # it falls with kicks, not with toms
    ],
)
def test_a_tom_with_a_hit_of_its_own_is_none(own: list[float], clear: list[str]) -> None:
    kicks = _hits("kick", [5.0, 6.0, 7.0])
    assert only_echoes([*OTHER, *kicks, *_hits("tom_2", own, 0.8)], [*clear, "tom_1"]) == set()


def test_without_other_drums_nothing_echoes() -> None:
    assert only_echoes(OTHER, []) == set()
    assert only_echoes([], []) == set()
