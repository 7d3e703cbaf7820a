"""The gate by hand: envelopes of regions, and what a hand does to them."""

import numpy as np
import pytest

from arkund.core.clean import regions
from arkund.core.clean.gate import Timing, envelope, hit_openings
from arkund.core.clean.regions import Span
from arkund.core.clean.rule import GateRule
from arkund.core.errors import ArkundError

TIMING = Timing(attack=24, hold=2000, release=4000, lookahead=48)
ONSETS = (10_000, 30_000, 33_000, 60_000)
FRAMES = 80_000


def _rule(opens_on: str, spans: tuple[Span, ...] = ()) -> GateRule:
    return GateRule(opens_on, -30, 6, -40, TIMING, ONSETS, spans)


def test_derived_regions_pass_what_the_gate_passes() -> None:
    rule = _rule("hits")
    openings = rule.openings([], FRAMES)
    spans = regions.derived(openings, TIMING, FRAMES)
    assert [(s.at, s.stop) for s in spans] == [(9952, 16001), (29952, 39001), (59952, 66001)]
    by_hand = _rule("hand", tuple(spans))
    at = np.arange(0, FRAMES, 7.0)
    gate = rule.shape(openings).at(at)
    hand = by_hand.shape(by_hand.openings([], FRAMES)).at(at)
    # The gate closes a little between the two hits that the region holds together.
    held = (at > 33_000 - 48) & (at < 33_000) | (at > 32_000) & (at < 33_000)
    assert np.abs(gate - hand)[~held].max() < 0.1
    assert (hand >= gate - 1e-9).all()


@pytest.mark.parametrize("fade", ["decibels", "straight", "smooth"])
def test_fades_run_as_they_say(fade: regions.Fade) -> None:
    shape = regions.region_envelope([Span(1000, 4000, 1000, 500, -6.0)], -40.0, fade)
    middle = shape.at(np.array([1500.0]))[0]
    low, high = 10 ** (-40 / 20), 10 ** (-6 / 20)
    wanted = -23.0 if fade == "decibels" else 20 * np.log10((low + high) / 2)
    assert middle == pytest.approx(wanted, abs=0.05)
    assert shape.at(np.array([0.0, 999.0, 2000.0, 4500.0, 5000.0, 9000.0])) == pytest.approx(
        [-40, -40, -6, -6, -40, -40]
    )
    rising = shape.at(np.arange(1000.0, 2001.0))
    assert (np.diff(rising) > 0).all()


def test_touching_regions_go_from_gain_to_gain() -> None:
    spans = [Span(1000, 1000, 10, 900, 0.0), Span(2000, 1000, 100, 100, -12.0)]
    shape = regions.region_envelope(spans, -60.0, "decibels")
    got = shape.at(np.array([1500.0, 1999.0, 2050.0, 2100.0, 2899.0, 3000.0]))
    assert got == pytest.approx([0, 0, -6, -12, -12, -60], abs=0.1)


def test_a_region_without_fades_is_there_at_once() -> None:
    shape = regions.region_envelope([Span(1000, 100)], -80.0, "smooth")
    assert shape.at(np.array([999.0, 1000.0, 1099.0, 1100.0])) == pytest.approx([-80, 0, 0, -80])


def test_what_the_hand_set_stays_when_regions_are_derived_anew() -> None:
    old = [Span(9000, 9000, by_hand=True), Span(29_952, 9000)]
    new = regions.derived(hit_openings(np.array(ONSETS), 0, 1, FRAMES), TIMING, FRAMES)
    kept = regions.derived_around(new, old)
    assert [(s.at, s.by_hand) for s in kept] == [(9000, True), (29_952, False), (59_952, False)]


def test_a_hand_moves_splits_joins_draws_and_takes_out() -> None:
    spans = {"r1": Span(1000, 1000, 200, 300), "r2": Span(3000, 1000, 100, 100)}
    moved = regions.with_edge(spans, "r1", "out", 9000)["r1"]
    assert (moved.stop, moved.by_hand) == (3000, True)
    tiny = regions.with_edge(spans, "r1", "out", 0)["r1"]
    assert (tiny.frames, tiny.fade_in + tiny.fade_out) == (1, 1)
    assert regions.with_edge(spans, "r2", "in", 10)["r2"].at == 2000
    cut = regions.with_split(spans, "r1", 1500)
    whole, parts = (
        regions.region_envelope(list(s.values()), -40, "decibels") for s in (spans, cut)
    )
    at = np.arange(900.0, 4100.0)
    assert parts.at(at) == pytest.approx(whole.at(at), abs=0.1)
    again = regions.with_joined(cut, "r1")
    assert (again["r1"].at, again["r1"].stop, again["r1"].fade_out) == (1000, 2000, 300)
    drawn = regions.with_drawn(spans, 5000, 5100, TIMING)
    assert drawn["r3"] == Span(5000, 100, 24, 76, by_hand=True)
    assert regions.without(drawn, "r3") == spans


def test_what_cannot_be_done_is_said() -> None:
    spans = {"r1": Span(1000, 1000), "r2": Span(3000, 1000)}
    for wrong in (
        lambda: regions.with_split(spans, "r1", 2000),
        lambda: regions.with_joined(spans, "r2"),
        lambda: regions.with_drawn(spans, 1500, 1600, TIMING),
        lambda: regions.with_drawn(spans, 500, 500, TIMING),
        lambda: regions.without(spans, "r9"),
    ):
        with pytest.raises(ArkundError, match=r"^[A-Z].*\.$"):
            wrong()
    assert regions.complaint([("a", Span(0, 10)), ("b", Span(9, 5))])
    assert regions.complaint([("a", Span(0, 10, 6, 5))])
    assert not regions.complaint([("b", Span(10, 5)), ("a", Span(0, 10, 5, 5))])


def test_openings_by_hand_are_the_regions_that_are_heard() -> None:
    rule = _rule("hand", (Span(500, 10), Span(700, 50, gain_db=-20.0)))
    assert rule.openings([], FRAMES).tolist() == [[500, 510]]
    closed = envelope([], -40, TIMING)
    assert closed.at(np.array([505.0]))[0] == -40
