"""The simulated drummer: what is on the chart, and how far from it the hits fall."""

import numpy as np
import pytest

from arkund.core.simulate.drummer import ChartSection, Feel, PlayedHit, perform

STILL = Feel(0.0, 0.0, {})
BEAT = {"kick": "X.......x.......", "snare": "....X..g....X...", "hat": "x.x.x.x.x.x.x.x."}
BAR_S = 2.0


def play(chart: list[ChartSection], feel: Feel = STILL, seed: int = 1) -> list[PlayedHit]:
    return perform(chart, 120.0, feel, 0.5, np.random.default_rng(seed))


def places(hits: list[PlayedHit], piece: str) -> list[float]:
    return [round((s.time_s - 0.5) / BAR_S * 16, 3) for s in hits if s.piece == piece]


def test_a_still_drummer_plays_the_chart() -> None:
    hits = play([ChartSection("verse", 2, BEAT)])
    assert places(hits, "kick") == [0, 8, 16, 24]
    assert places(hits, "snare") == [4, 7, 12, 20, 23, 28]
    assert [s.time_s for s in hits] == sorted(s.time_s for s in hits)
    kinds = [s.kind for s in hits if s.piece == "snare"]
    assert kinds == ["accent", "ghost", "accent"] * 2


def test_marks_set_how_loud() -> None:
    hits = play([ChartSection("verse", 40, BEAT)])

    def mean(piece: str, kind: str) -> float:
        return float(np.mean([s.velocity for s in hits if (s.piece, s.kind) == (piece, kind)]))

    assert mean("snare", "accent") > mean("kick", "plain") + 15
    assert mean("kick", "plain") > mean("snare", "ghost") + 35
    soft = play([ChartSection("verse", 40, BEAT)], Feel(0, 0, {}, touch=0.6))
    loud, less = (np.mean([s.velocity for s in some]) for some in (hits, soft))
    assert less == pytest.approx(0.6 * loud, rel=0.03)


def test_a_fill_takes_the_second_half_of_the_last_bar_and_leaves_the_kick() -> None:
    fill = {"tom_1": "........x.x.....", "tom_2": "............x.x."}
    hits = play([ChartSection("verse", 2, BEAT, fill)])
    assert places(hits, "tom_1") == [24, 26]
    assert max(places(hits, "hat")) < 24
    assert 28 not in places(hits, "snare")
    assert places(hits, "kick") == [0, 8, 16, 24]


def test_a_crash_takes_the_hand_from_the_hat() -> None:
    hits = play([ChartSection("chorus", 2, BEAT, None, {"crash_1": "X..............."})])
    assert places(hits, "crash_1") == [0]
    assert 0 not in places(hits, "hat")
    assert 16 in places(hits, "hat")


def test_twelve_marks_are_triplets() -> None:
    hits = play([ChartSection("verse", 1, {"hat": "x.xx.xx.xx.x"})])
    assert places(hits, "hat") == pytest.approx(
        np.array([0, 2, 3, 5, 6, 8, 9, 11]) * 16 / 12, abs=1e-3
    )


def test_limbs_have_their_habits_and_their_spread() -> None:
    feel = Feel(4.0, 2.0, {"snare": 8.0})
    still, felt = (play([ChartSection("verse", 60, BEAT)], f) for f in (STILL, feel))
    late = {}
    for piece in ("kick", "snare"):
        a, b = ([s.time_s for s in some if s.piece == piece] for some in (still, felt))
        late[piece] = (np.array(b) - np.array(a)) * 1000
    assert np.median(late["snare"]) - np.median(late["kick"]) == pytest.approx(8, abs=1.5)
    assert 2 < np.std(late["kick"]) < 10
    # What falls together shares its lateness.
    by_slot = {round(s.time_s / 0.125): s for s in felt if s.piece == "hat"}
    gaps = [
        abs(s.time_s - by_slot[k].time_s)
        for s in felt
        if s.piece == "kick"
        if (k := round(s.time_s / 0.125)) in by_slot
    ]
    assert np.median(gaps) < 0.004


def test_no_limb_strikes_twice_at_once() -> None:
    rolled = play([ChartSection("roll", 4, {"snare": "x" * 96})], Feel(6.0, 6.0, {}))
    times = np.array([s.time_s for s in rolled])
    assert np.diff(times).min() >= 0.045 - 1e-9
