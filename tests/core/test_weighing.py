"""Onsets weighed by their evidence: the trees, what they may not do, and what a tom's mic tells."""

import numpy as np
import pytest

from arkund.core.hits.detect import listen
from arkund.core.hits.evidence import AGAINST, FOR, NAMES
from arkund.core.hits.ownership import Signatures
from arkund.core.hits.verdict import Trees, probabilities, trees
from arkund.core.hits.weighing import Weighed, told, weighed, with_piece
from arkund.core.simulate.session import Session, simulate

COLUMNS = len(NAMES) + 2
RATE = 48_000


def _two_trees() -> Trees:
    """If the first column is over 3 odds of 2, else of -2; without a figure as if it were over. Then 1
    more in any case."""
    return Trees(
        np.array([0, 3], np.int32), np.array([0, -1, -1, -1], np.int16),
        np.array([3, 0, 0, 0], np.float32), np.array([1, 0, 0, 0], np.int32),
        np.array([2, 0, 0, 0], np.int32), np.zeros(4, np.bool_),
        np.array([0, -2, 2, 1], np.float32), base=0.5,
    )  # fmt: skip


def test_trees_add_up_to_log_odds() -> None:
    rows = np.array([[2.9], [3.0], [3.1], [np.nan]], np.float32)
    odds = np.array([-0.5, -0.5, 3.5, 3.5])
    assert probabilities(rows, _two_trees()) == pytest.approx(1 / (1 + np.exp(-odds)))


def test_the_trees_that_ship_look_at_the_columns_that_there_are() -> None:
    kept = trees()
    assert kept.column.max() < COLUMNS
    inner = kept.column >= 0
    assert np.all(kept.left[inner] > np.flatnonzero(inner))
    assert np.all(kept.right[inner] > np.flatnonzero(inner))
    assert kept.right.max() < len(kept.column)


@pytest.fixture(scope="module")
def session() -> Session:
    return simulate("copper", 5150, bars=5)


@pytest.fixture(scope="module")
def by_piece(session: Session) -> dict[str, Weighed]:
    listened = listen(session.mics, session.rate)
    assert listened is not None
    return {p: weighed(listened.heard(p), listened.signatures) for p in ("kick", "snare", "hat")}


def test_what_speaks_for_a_stroke_never_speaks_against_it(by_piece: dict[str, Weighed]) -> None:
    rows = by_piece["snare"].evidence[::5]
    for name in sorted(FOR | AGAINST):
        column = NAMES.index(name)
        shares = []
        for value in np.nanpercentile(rows[:, column], [0, 25, 50, 75, 100]):
            asked = rows.copy()
            asked[:, column] = value
            shares.append(probabilities(asked))
        steps = np.diff(shares, axis=0) * (1 if name in FOR else -1)
        assert steps.min() > -1e-6, name


def test_shares_part_strokes_from_bleed(session: Session, by_piece: dict[str, Weighed]) -> None:
    for piece, found in by_piece.items():
        true = np.array([h["time_s"] for h in session.truth["hits"] if h["piece"] == piece])
        away = np.abs(found.place[:, None] / session.rate - true).min(axis=1)
        share = probabilities(found.evidence)
        assert np.median(share[away < 0.005]) > 0.97, piece
        assert np.median(share[away > 0.05]) < 0.02, piece


def _toms(before: int, others: int = 0) -> Weighed:
    """Twenty onsets half a second apart that ``before`` other mics hear 2 ms earlier, then ``others``
    that this mic hears first."""
    rows = np.zeros((20 + others, COLUMNS), np.float32)
    rows[:20, NAMES.index("mics before")] = before
    rows[:, NAMES.index("first by")] = 1.5
    rows[:20, NAMES.index("first by")] = -2.0 if before else 1.5
    return Weighed(np.arange(20 + others) * 0.5 * RATE, np.zeros(20 + others), rows)


def test_a_tom_that_others_always_hear_first_is_bleed() -> None:
    sure = np.full(20, 0.9)
    assert told("tom_3", _toms(before=4), sure, RATE) == []
    assert len(told("tom_3", _toms(before=0), sure, RATE)) == 20
    assert len(told("kick", _toms(before=4), sure, RATE)) == 20, "a kick's mic may stand far off"
    # One real stroke among the bleed is kept; a tom often heard first is believed throughout.
    assert told("tom_3", _toms(4, others=1), np.full(21, 0.9), RATE) == [20]
    assert len(told("tom_3", _toms(4, others=5), np.full(25, 0.9), RATE)) == 25


def test_what_comes_when_bleed_does_and_is_nothing_like_the_drum_is_anothers() -> None:
    rows = np.zeros((4, COLUMNS), np.float32)
    for name, values in (("on time", (1, 0, 1, 1)), ("alike", (0.3, 0.3, 0.9, 0.3)),
                         ("scatter of bands", (9, 9, 9, 2))):  # fmt: skip
        rows[:, NAMES.index(name)] = values
    found = Weighed(np.arange(4.0) * RATE, np.zeros(4), rows)
    assert told("snare", found, np.full(4, 0.9), RATE) == [1, 2, 3]
    assert told("hat", found, np.full(4, 0.9), RATE) == [0, 1, 2, 3]


def test_of_onsets_close_together_the_likeliest_is_the_stroke() -> None:
    rows = np.zeros((3, COLUMNS), np.float32)
    found = Weighed(np.array([0.0, 0.02, 0.06]) * RATE, np.zeros(3), rows)
    assert told("snare", found, np.array([0.7, 0.9, 0.6]), RATE) == [1, 2]
    assert told("snare", found, np.array([0.7, 0.4, 0.3]), RATE) == [0]


def test_a_drum_that_seems_never_struck_is_asked_about_without_changing_the_others() -> None:
    own = {"kick": np.arange(6), "tom_1": np.arange(6, 12)}
    known = Signatures(["kick"], np.full((12, 1), 1 / 12), np.ones(12), own, np.array([40]), {},
                       np.ones((12, 1)))  # fmt: skip
    asked = with_piece(known, "tom_1")
    assert asked.pieces == ["kick", "tom_1"]
    assert asked.strokes.tolist() == [40, 0]
    assert np.array_equal(asked.matrix[:, 0], known.matrix[:, 0])
    assert asked.matrix[6:, 1].sum() == pytest.approx(1)
    assert with_piece(known, "kick") is known
