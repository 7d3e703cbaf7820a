"""The gate by its definitions: exact to a sample and a tenth of a decibel."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.clean.gate import (
    ThresholdKey,
    Timing,
    apply_envelope,
    envelope,
    gate,
    hit_openings,
    threshold_openings,
)
from arkund.core.clean.jump import cymbals_jump_db, shut_at
from arkund.core.clean.rule import GateRule

TIMING = Timing(attack=100, hold=500, release=1000)


def _burst(length: int = 6000) -> np.ndarray:
    """Quiet, then loud from 1000 to 1999, then quiet."""
    key = np.full(length, 0.001, np.float32)
    key[1000:2000] = 0.5
    return key


def _gain_db(out: np.ndarray, key: np.ndarray) -> np.ndarray:
    return 20 * np.log10(np.abs(out) / np.abs(key))


def test_travel_is_linear_in_decibels_and_exact() -> None:
    key = _burst()
    gain = _gain_db(gate(key, key, -20, 6, -40, TIMING), key)
    assert np.allclose(gain[:1000], -40, atol=0.1)
    assert np.allclose(gain[1000:1100], -40 + 0.4 * np.arange(100), atol=0.1)
    # Hold starts at the first sample below the close threshold.
    assert np.allclose(gain[1100:2500], 0, atol=0.01)
    assert np.allclose(gain[2500:3500], -0.04 * np.arange(1000), atol=0.1)
    assert np.allclose(gain[3500:], -40, atol=0.1)


def test_open_gate_passes_bits_untouched() -> None:
    key = _burst()
    out = gate(key, key, -20, 6, -40, TIMING)
    assert np.array_equal(out[1101:2500], key[1101:2500])


def test_range_zero_passes_bits_untouched() -> None:
    noise = np.random.default_rng(1).standard_normal(3000).astype(np.float32)
    assert np.array_equal(gate(noise, noise, -3, 6, 0, TIMING), noise)


def test_lookahead_of_the_attack_is_open_at_the_onset() -> None:
    key = _burst()
    out = gate(key, key, -20, 6, -60, Timing(100, 500, 1000, lookahead=100))
    assert _gain_db(out, key)[1000] == pytest.approx(0, abs=0.01)
    assert _gain_db(out, key)[899] == pytest.approx(-60, abs=0.1)


def test_a_key_between_the_thresholds_holds_an_open_gate_and_opens_no_shut_one() -> None:
    key = np.full(9000, 10 ** (-23 / 20), np.float32)
    assert len(threshold_openings(key, -20, 6, 100)) == 0
    key[100] = 0.5
    assert threshold_openings(key, -20, 6, 100).tolist() == [[100, 9000]]


def test_deciding_in_blocks_equals_deciding_at_once() -> None:
    rng = np.random.default_rng(2)
    key = (rng.standard_normal(50000) * np.repeat(rng.uniform(0, 0.4, 50), 1000)).astype(np.float32)
    whole = threshold_openings(key, -12, 8, 300)
    follower = ThresholdKey(-12, -20, 300)
    at = 0
    for size in (1, 17, 4000, 20000, 25982):
        follower.feed(key[at : at + size], at)
        at += size
    assert at == len(key)
    assert np.array_equal(follower.finish(len(key)), whole)
    assert len(whole) > 3


def test_opening_again_while_closing_rises_from_where_it_is() -> None:
    shape = envelope([(1000, 2000), (3000, 3100)], -40, TIMING)
    fallen = shape.at(np.array([2999.0]))[0]
    assert -40 < fallen < -10
    risen = shape.at(np.array([3000.0 + 50.0]))[0]
    assert risen == pytest.approx(min(fallen + 0.4 * 51, 0), abs=0.1)
    assert shape.at(np.array([3400.0]))[0] == 0


def test_opening_again_during_hold_stays_open() -> None:
    shape = envelope([(1000, 2000), (2300, 2400)], -40, TIMING)
    assert np.all(shape.at(np.arange(1100.0, 2900.0)) == 0)
    assert shape.at(np.array([2950.0]))[0] < 0


def test_any_part_equals_the_whole() -> None:
    noise = np.random.default_rng(3).standard_normal(20000).astype(np.float32)
    shape = envelope([(2000, 3000), (9000, 9100), (9900, 12000)], -35, TIMING)
    whole = apply_envelope(noise, 0, shape)
    for start, stop in ((0, 50), (2049, 2051), (3500, 9050), (12400, 20000)):
        part = apply_envelope(np.ascontiguousarray(noise[start:stop]), start, shape)
        assert np.allclose(part, whole[start:stop], atol=1e-6)


def test_hits_that_touch_become_one_opening() -> None:
    openings = hit_openings(np.array([5000, 1000, 1400]), 48, 500, 100000)
    assert openings.tolist() == [[952, 1900], [4952, 5500]]


def _slow_openings(key: np.ndarray, open_level: float, close_level: float, hold: int) -> list:
    """The definition, sample by sample."""
    found, opened, last = [], None, 0
    for n, level in enumerate(np.abs(key)):
        if opened is None:
            if level > open_level:
                opened = last = n
        elif level >= close_level:
            last = n
        elif n - last > hold:
            found.append([opened, last + 1])
            opened = n if level > open_level else None
            last = n if opened is not None else last
    return found + ([[opened, last + 1]] if opened is not None else [])


@pytest.mark.parametrize("hold", [0, 5, 63, 64, 200])
def test_looking_at_blocks_equals_the_definition(hold: int) -> None:
    rng = np.random.default_rng(hold)
    loud = np.repeat(rng.choice([0.001, 0.05, 0.5], 400), rng.integers(1, 400, 400))
    key = (loud * rng.uniform(-1, 1, len(loud))).astype(np.float32)
    got = threshold_openings(key, -20, 12, hold).tolist()
    wanted = _slow_openings(key, np.float64(0.1), np.float64(10 ** (-32 / 20)), hold)
    assert got == wanted
    assert len(wanted) >= 2


def test_ghosts_open_the_gate_as_far_as_they_may() -> None:
    timing = Timing(0.0, 1000.0, 500.0, 0.0)
    rule = GateRule("hits", 0, 0, -40.0, timing, (10_000, 30_000), ghosts=(30_000,), ghosts_db=-6.0)
    shape = rule.shape(rule.openings([], 60_000))
    hit, ghost, between = shape.at(np.array([10_500.0, 30_500.0, 25_000.0]))
    assert (hit, ghost, between) == (0.0, pytest.approx(-6.0), -40.0)
    loud = replace(rule, ghosts=(), ghosts_db=0.0)
    assert loud.shape(loud.openings([], 60_000)).at(np.array([30_500.0])) == 0.0
    shut = replace(rule, ghosts_db=-40.0)
    assert shut.shape(shut.openings([], 60_000)).at(np.array([30_500.0])) == -40.0


def test_a_ghost_in_a_hits_release_takes_nothing_from_it() -> None:
    timing = Timing(10.0, 1000.0, 4000.0, 0.0)
    alone = GateRule("hits", 0, 0, -40.0, timing, (10_000,))
    both = replace(alone, onsets=(10_000, 12_000), ghosts=(12_000,), ghosts_db=-12.0)
    at = np.arange(9000.0, 20_000.0, 7.0)
    without = alone.shape(alone.openings([], 60_000)).at(at)
    with_ghost = both.shape(both.openings([], 60_000)).at(at)
    held = (at > 12_100) & (at < 12_900)
    assert np.all(with_ghost >= without - 1e-9)
    assert np.allclose(with_ghost[held], np.maximum(without[held], -12.0), atol=1e-6)


def test_cymbals_jump_by_what_the_shut_mic_held_of_them() -> None:
    rate, rng = 48_000, np.random.default_rng(4)
    cymbals = np.repeat(rng.standard_normal((rate * 2, 1)).astype(np.float32) * 0.1, 2, axis=1)
    shape = envelope([(10_000, 20_000)], -80.0, Timing(10.0, 1000.0, 2000.0, 0.0))
    shuts = shut_at(shape)
    assert shuts.tolist() == [23_000.0]
    gain = 10 ** (shape.at(np.arange(len(cymbals))) / 20)[:, None].astype(np.float32)
    # The mic holds as much of them as the rest does, in step: 6 dB of the sum.
    jump = cymbals_jump_db(2 * cymbals, cymbals * (1 + gain), rate, shuts)
    assert jump == pytest.approx(6.02, abs=0.05)
    assert cymbals_jump_db(0 * cymbals, 0 * cymbals, rate, shuts) == 0.0
    assert cymbals_jump_db(2 * cymbals, cymbals, rate, np.zeros(0)) == 0.0


def test_a_soft_hit_opens_it_earlier_and_for_longer() -> None:
    """The list may have one late: the gate is open before, and as long after, ghosts as high as asked."""
    timing = Timing(10, 500, 100)
    rule = GateRule("hits", 0, 0, -40.0, timing, (10_000, 20_000), soft=(20_000,), early=600)
    openings = rule.openings([], 48_000)
    assert openings.tolist() == [[10_000, 10_001], [19_400, 20_001]]
    shape = rule.shape(openings)
    opened = shape.at(np.array([9_900.0, 10_100.0, 19_300.0, 19_420.0, 20_400.0, 20_700.0]))
    assert opened.round().tolist() == [-40, 0, -40, 0, 0, -40]
    ghosts = replace(rule, ghosts=(20_000,), ghosts_db=-10.0)
    heard = ghosts.shape(ghosts.openings([], 48_000)).at(np.array([10_100.0, 19_420.0]))
    assert heard.round().tolist() == [0, -10]
