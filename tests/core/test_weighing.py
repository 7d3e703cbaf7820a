"""Onsets weighed by their evidence: the trees, what they may not do, and what a tom's mic tells."""

import numpy as np
import pytest

from arkund.core.errors import ArkundError
from arkund.core.hits.choose.choosing import distances, told, witnessed
from arkund.core.hits.choose.hits import Chosen
from arkund.core.hits.detect import away_from_shells, without_echoes
from arkund.core.hits.explain.ownership import Signatures
from arkund.core.hits.hit import Hit
from arkund.core.hits.listening import listen
from arkund.core.hits.weigh.evidence import AGAINST, NAMES
from arkund.core.hits.weigh.verdict import FILE, Trees, kept, probabilities
from arkund.core.hits.weigh.weighing import (
    DULL_STIR,
    FIRST_NAMES,
    PLACE,
    SPEAKS_FOR,
    Weighed,
    weighed,
    with_piece,
)
from arkund.core.simulate.session import Session

COLUMNS = len(NAMES) + len(PLACE)
RATE = 48_000


def _two_trees() -> Trees:
    """If the first column is over 3 odds of 2, else of -2; without a figure as if it were over. Then 1
    more in any case."""
    return Trees(
        np.array([0, 3], np.int32),
        np.array([0, -1, -1, -1], np.int16),
        np.array([3, 0, 0, 0], np.float32),
        np.array([1, 0, 0, 0], np.int32),
        np.array([2, 0, 0, 0], np.int32),
        np.zeros(4, np.bool_),
        np.array([0, -2, 2, 1], np.float32),
        base=0.5,
    )


def test_trees_add_up_to_log_odds() -> None:
    rows = np.array([[2.9], [3.0], [3.1], [np.nan]], np.float32)
    odds = np.array([-0.5, -0.5, 3.5, 3.5])
    assert probabilities(rows, _two_trees()) == pytest.approx(1 / (1 + np.exp(-odds)))


def test_the_trees_that_ship_go_down_and_end() -> None:
    trees = kept(FILE, FIRST_NAMES)
    inner = trees.column >= 0
    assert np.all(trees.left[inner] > np.flatnonzero(inner))
    assert np.all(trees.right[inner] > np.flatnonzero(inner))
    assert trees.right.max() < len(trees.column)


def test_columns_are_found_by_their_names() -> None:
    """Evidence may be measured in another order, and there may be more of it."""
    plain = kept(FILE, FIRST_NAMES)
    turned = kept(FILE, ("another", *FIRST_NAMES[::-1]))
    rows = np.random.default_rng(1).normal(0, 5, (50, len(FIRST_NAMES))).astype(np.float32)
    other = np.column_stack([np.zeros(50), rows[:, ::-1]]).astype(np.float32)
    assert probabilities(rows, plain) == pytest.approx(probabilities(other, turned))


def test_trees_that_ask_for_what_is_not_measured_are_refused() -> None:
    lacking = tuple(n for n in FIRST_NAMES if n not in ("level", "over bleed"))
    with pytest.raises(ArkundError, match="figures that are no longer measured: level"):
        kept(FILE, lacking)


@pytest.fixture(scope="module")
def by_piece(session: Session) -> dict[str, Weighed]:
    listened = listen(session.mics, session.rate)
    assert listened is not None
    return {p: weighed(listened.heard(p), listened.signatures) for p in ("kick", "snare", "hat")}


def test_what_speaks_for_a_hit_never_speaks_against_it(by_piece: dict[str, Weighed]) -> None:
    rows = by_piece["snare"].evidence[::5]
    for name in sorted(SPEAKS_FOR | AGAINST):
        column = FIRST_NAMES.index(name)
        shares = []
        for value in np.nanpercentile(rows[:, column], [0, 25, 50, 75, 100]):
            asked = rows.copy()
            asked[:, column] = value
            shares.append(probabilities(asked, kept(FILE, FIRST_NAMES)))
        steps = np.diff(shares, axis=0) * (1 if name in SPEAKS_FOR else -1)
        assert steps.min() > -1e-6, name


def test_shares_part_hits_from_bleed(session: Session, by_piece: dict[str, Weighed]) -> None:
    for piece, found in by_piece.items():
        true = np.array([h["time_s"] for h in session.truth["hits"] if h["piece"] == piece])
        away = np.abs(found.place[:, None] / session.rate - true).min(axis=1)
        share = probabilities(found.evidence, kept(FILE, FIRST_NAMES))
        assert np.median(share[away < 0.005]) > 0.97, piece
        assert np.median(share[away > 0.05]) < 0.02, piece


def test_a_tom_that_seems_hardly_struck_is_surely_struck_once() -> None:
    """Bleed alone is never sure; where one hit is, likely ones are hits as well."""
    found = Weighed(np.arange(8.0) * RATE, np.zeros(8), np.zeros((8, COLUMNS), np.float32))
    share = np.array([0.6, 0.9, 0.7, 0.95, 0.1, 0.1, 0.1, 0.1])
    assert told("tom_1", found, share, RATE) == [0, 1, 2, 3]
    assert told("tom_1", found, np.minimum(share, 0.8), RATE) == []
    assert told("kick", found, np.minimum(share, 0.8), RATE) == [0, 1, 2, 3]
    often = np.where(share < 0.5, 0.55, np.minimum(share, 0.8))
    assert told("tom_1", found, often, RATE) == list(range(8))


def test_a_tom_struck_only_along_with_a_likelier_one_is_its_echo() -> None:
    low = [Chosen(t, 0.0, 0.99) for t in (1.0, 2.0, 3.0)]
    echo = [Chosen(t + 0.004, -9.0, 0.9) for t in (1.0, 3.0)]
    kick = [Chosen(t, 0.0, 1.0) for t in (1.0, 2.0, 3.0)]
    by_piece = {"tom_1": echo, "tom_3": low, "kick": kick}
    assert without_echoes(by_piece) == {"tom_1": [], "tom_3": low, "kick": kick}
    # One hit of its own, or surer ones, and all are believed.
    alone = [*echo, Chosen(5.0, -2.0, 0.9)]
    assert without_echoes({"tom_1": alone, "tom_3": low})["tom_1"] == alone
    surer = [Chosen(s.time_s, 0.0, 0.995) for s in echo]
    assert without_echoes({"tom_1": surer, "tom_3": low})["tom_1"] == surer


def test_of_onsets_close_together_the_likeliest_is_the_hit() -> None:
    rows = np.zeros((3, COLUMNS), np.float32)
    found = Weighed(np.array([0.0, 0.02, 0.06]) * RATE, np.zeros(3), rows)
    assert told("snare", found, np.array([0.7, 0.9, 0.6]), RATE) == [1, 2]
    assert told("snare", found, np.array([0.7, 0.4, 0.3]), RATE) == [0]


def test_places_that_are_likely_together_hold_one_hit_at_the_likeliest() -> None:
    rows = np.zeros((4, COLUMNS), np.float32)
    found = Weighed(np.array([0.0, 0.004, 0.009, 0.5]) * RATE, np.zeros(4), rows)
    share = np.array([0.2, 0.4, 0.3, 0.45])
    assert told("snare", found, share, RATE) == [1]
    assert told("kick", found, share, RATE) == []
    assert told("snare", found, np.array([0.0, 0.4, 0.2, 0.45]), RATE) == []
    assert told("snare", found, np.array([0.3, 0.34, 0.3, 0.0]), RATE) == []


def test_what_overheads_are_sure_of_is_struck_at_its_likeliest_place() -> None:
    rows = np.zeros((3, COLUMNS), np.float32)
    rows[:, len(NAMES) + PLACE.index("own from afar")] = [0.99, 0.99, 0.5]
    found = Weighed(np.array([0.0, 0.006, 0.5]) * RATE, np.zeros(3), rows)
    assert told("snare", found, np.array([0.1, 0.25, 0.25]), RATE) == [1]
    assert told("snare", found, np.array([0.1, 0.15, 0.25]), RATE) == []
    assert told("tom_1", found, np.array([0.1, 0.25, 0.25]), RATE) == []
    rows[:, len(NAMES) + PLACE.index("told by")] = DULL_STIR
    assert told("snare", found, np.array([0.1, 0.25, 0.25]), RATE) == []
    assert told("snare", found, np.array([0.1, 0.4, 0.25]), RATE) == [1]


def test_what_begins_just_behind_a_kick_is_no_soft_hit() -> None:
    kick = Hit("k", "kick", 1.0, 100, "accent", 1.0, 0.0)
    hat = Hit("h", "hat", 2.0, 100, "accent", 1.0, 0.0)
    places = [0.9955, 0.997, 1.0045, 1.0055, 2.0]
    assert away_from_shells({"snare": places}, [kick, hat]) == {"snare": [0.9955, 1.0055, 2.0]}
    assert away_from_shells({"snare": [1.0045]}, [kick, hat]) == {}


def test_of_a_grace_note_and_its_hit_the_hit_counts() -> None:
    rows = np.zeros((2, COLUMNS), np.float32)
    found = Weighed(np.array([0.0, 0.025]) * RATE, np.array([-6.0, 0.0]), rows)
    assert told("snare", found, np.array([0.99, 0.93]), RATE) == [1]
    assert told("snare", found, np.array([0.99, 0.8]), RATE) == [0]


def test_a_grace_note_as_sure_as_its_hit_gives_way_to_it() -> None:
    """Its level is its hit's; what tells them apart is how loud each is just then."""
    rows = np.zeros((3, COLUMNS), np.float32)
    newness, as_loud = (len(NAMES) + PLACE.index(n) for n in ("newness", "as loud"))
    found = Weighed(np.array([0.0, 0.012, 0.5]) * RATE, np.zeros(3), rows)
    share = np.array([1.0, 0.97, 1.0])
    rows[:, newness], rows[:, as_loud] = 20.0, (-8.0, 0.0, 0.0)
    assert told("snare", found, share, RATE) == [1, 2]
    rows[1, newness] = 4.0
    assert told("snare", found, share, RATE) == [0, 2]
    rows[:, newness], rows[0, as_loud] = 20.0, -1.0
    assert told("snare", found, share, RATE) == [0, 2]
    rows[0, as_loud] = -8.0
    assert told("kick", found, share, RATE) == [0, 2]
    assert told("snare", found, np.array([1.0, 0.8, 1.0]), RATE) == [0, 2]


def test_a_drum_that_seems_never_struck_is_asked_about_without_changing_the_others() -> None:
    own = {"kick": np.arange(6), "tom_1": np.arange(6, 12)}
    known = Signatures(
        ["kick"], np.full((12, 1), 1 / 12), np.ones(12), own, np.array([40]), {}, np.ones((12, 1))
    )
    asked = with_piece(known, "tom_1")
    assert asked.pieces == ["kick", "tom_1"]
    assert asked.hits.tolist() == [40, 0]
    assert np.array_equal(asked.matrix[:, 0], known.matrix[:, 0])
    assert asked.matrix[6:, 1].sum() == pytest.approx(1)
    assert with_piece(known, "kick") is known


def test_a_hit_that_two_hear_clearly_is_witnessed() -> None:
    """New and loud in its own mic, surely this drum from afar, where its sound seems to begin."""
    rows = np.full((6, COLUMNS), np.nan, np.float32)
    newness, by, own = (
        len(NAMES) + PLACE.index(n) for n in ("newness", "told by", "own from afar")
    )
    rows[:, newness], rows[:, by], rows[:, own] = 20.0, 0.0, 0.99
    level = np.array([-1.0, -1.0, -1.0, -1.0, -9.0, -1.0])
    rows[1, own] = 0.8
    rows[2, newness] = 5.0
    rows[3, by] = 2.0
    rows[5, own] = np.nan
    found = Weighed(np.arange(6.0), level, rows)
    assert witnessed(found, -6.0).tolist() == [True, False, False, False, False, False]
    assert not witnessed(found, float(found.level_db[0]) + 0.1)[0]


def test_of_two_places_as_likely_the_sound_s_own_counts_before_its_dull_part_s() -> None:
    """3 ms apart, both all but sure; a place of the dull part that is much likelier stays."""
    rows = np.full((2, COLUMNS), np.nan, np.float32)
    rows[:, len(NAMES) + PLACE.index("told by")] = [0, 4]
    found = Weighed(np.array([4800.0, 4944.0]), np.zeros(2), rows)
    assert told("snare", found, np.array([0.9990, 0.9995]), RATE) == [0]
    assert told("snare", found, np.array([0.7, 0.95]), RATE) == [1]


def test_distances_are_to_the_nearest_on_either_side() -> None:
    place, others = np.array([0.0, 4.0, 7.0, 30.0]), np.array([10.0, 3.0, 7.0])
    assert distances(place, others).tolist() == [3.0, 1.0, 0.0, 20.0]
    assert np.isinf(distances(place, np.zeros(0))).all()
