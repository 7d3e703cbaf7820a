"""A drum's hits begin where its sound does, the soft ones as the hard ones."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.choose.begins import MOST_S, at_their_beginning
from arkund.core.hits.hit import Hit, hit_id

RATE = 48000
SPEAKS_S = 0.003
"""The drum speaks so long after the beater has touched it."""


def _kick(level: float, rng: np.random.Generator) -> NDArray[np.float64]:
    t = np.arange(RATE // 8) / RATE
    touch = 0.12 * rng.standard_normal(len(t)) * (t < SPEAKS_S)
    body = np.sin(2 * np.pi * 62 * (t - SPEAKS_S)) * np.exp(-(t - SPEAKS_S) / 0.05)
    return level * (touch + np.where(t >= SPEAKS_S, np.sqrt(0.5) * body + 0.5 * (t < 0.005), 0))


def _song(
    late_s: NDArray[np.float64], seed: int = 4, noise: float = 1e-4
) -> tuple[NDArray[np.float32], NDArray[np.float64], list[Hit]]:
    """A kick mic, when the beater touches, and hits found so much later."""
    rng = np.random.default_rng(seed)
    true = 0.5 + 0.4 * np.arange(len(late_s)) + rng.uniform(0, 0.05, len(late_s))
    sound = noise * rng.standard_normal(int((true[-1] + 1) * RATE))
    for n, at in enumerate(true):
        one = _kick([0.5, 0.15][n % 2], rng)
        first = round(at * RATE)
        sound[first : first + len(one)] += one
    found = true + late_s
    hits = [Hit(hit_id("kick", t), "kick", float(t), 100, "plain", 1.0, 0.0) for t in found]
    return sound.astype(np.float32), true, hits


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_soft_and_hard_hits_begin_at_the_touch(seed: int) -> None:
    late = np.where(np.arange(24) % 2, 0.0, SPEAKS_S)
    sound, true, hits = _song(late, seed)
    moved = at_their_beginning(hits, sound, "kick", RATE)
    apart = np.array([h.time_s for h in moved]) - true
    assert np.abs(apart).max() < 0.0008
    # Hard against soft: what an ear would take for playing.
    assert abs(np.median(apart[::2]) - np.median(apart[1::2])) < 0.0005
    assert all(h.id == hit_id("kick", h.time_s) for h in moved)


@pytest.mark.parametrize(("touch_db", "wanted_s"), [(-8.0, 0.0), (-34.0, 0.0095)])
def test_a_drum_that_speaks_late_begins_at_a_touch_that_is_loud(
    touch_db: float, wanted_s: float
) -> None:
    """Half of the hits are found 9.5 ms late, at the speaking; a touch that is faint against it is not asked for so
    far ahead."""
    rng, speaks = np.random.default_rng(5), round(0.0095 * RATE)
    t = np.arange(RATE // 8) / RATE
    strike = rng.standard_normal(len(t)) * np.exp(-t / 0.03)
    drum = np.concatenate([10 ** (touch_db / 20) * rng.standard_normal(speaks), strike])
    true = 0.5 + 0.4 * np.arange(24) + rng.uniform(0, 0.05, 24)
    sound = 1e-4 * rng.standard_normal(int((true[-1] + 1) * RATE))
    for n, at in enumerate(true):
        first = round(at * RATE)
        sound[first : first + len(drum)] += [0.5, 0.2][n % 2] * drum
    found = true + 0.0095
    hits = [Hit(hit_id("tom_1", t), "tom_1", float(t), 100, "plain", 1.0, 0.0) for t in found]
    moved = at_their_beginning(hits, sound.astype(np.float32), "tom_1", RATE)
    apart = np.array([h.time_s for h in moved]) - true
    assert apart == pytest.approx(np.full(24, wanted_s), abs=0.0008)


@pytest.mark.parametrize("seed", [6, 13, 28, 34])
def test_a_drum_s_pitch_is_not_taken_for_its_beginning(seed: int) -> None:
    """Each hit is struck otherwise, and rings alike: most alike two periods later, without its stick."""
    rng, t = np.random.default_rng(seed), np.arange(RATE // 4) / RATE
    true = 0.5 + np.arange(8)
    sound = 1e-4 * rng.standard_normal(9 * RATE)
    for at in true:
        stick = rng.standard_normal(len(t)) * np.exp(-t / 0.004)
        first = round(at * RATE)
        one = (np.sin(2 * np.pi * 200 * t) + stick) * np.exp(-t / 0.05)
        sound[first : first + len(t)] += 0.4 * one
    hits = [Hit(hit_id("snare", t), "snare", t, 100, "plain", 1.0, 0.0) for t in true.tolist()]
    moved = at_their_beginning(hits, sound.astype(np.float32), "snare", RATE)
    assert np.abs(np.array([h.time_s for h in moved]) - true).max() < 0.001


def test_what_two_of_a_few_hits_share_by_chance_is_not_their_beginning() -> None:
    """Something else clicks 5.5 ms before two of nine hits."""
    sound, true, hits = _song(np.zeros(9))
    for at in true[[2, 5]]:
        first = round((at - 0.0055) * RATE)
        sound[first : first + 12] += np.tile([0.3, -0.3], 6).astype(np.float32)
    moved = at_their_beginning(hits, sound, "kick", RATE)
    assert np.abs(np.array([h.time_s for h in moved]) - true).max() < 0.001


def test_what_is_right_stays_to_the_last_digit() -> None:
    sound, _, hits = _song(np.zeros(16))
    assert at_their_beginning(hits, sound, "kick", RATE) == hits


def test_a_hit_that_something_covers_goes_with_the_others() -> None:
    late = np.full(20, SPEAKS_S)
    sound, true, hits = _song(late)
    snare = true[7] - 0.004
    first = round(snare * RATE)
    crack = np.random.default_rng(8).standard_normal(2400) * np.exp(-np.arange(2400) / 600)
    sound[first : first + 2400] += (0.2 * crack).astype(np.float32)
    beside = Hit("s", "snare", snare, 90, "accent", 1.0, 0.0)
    moved = at_their_beginning([*hits, beside], sound, "kick", RATE)
    assert moved[-1] is beside
    assert abs(moved[7].time_s - true[7]) < 0.001


def test_nothing_is_moved_on_few_hits_cymbals_or_noise() -> None:
    sound, _, hits = _song(np.full(4, SPEAKS_S))
    assert at_their_beginning(hits, sound, "kick", RATE) == hits
    sound, _, hits = _song(np.full(16, SPEAKS_S), noise=0.05)
    assert at_their_beginning(hits, sound, "kick", RATE) == hits
    hats = [Hit(h.id, "hat", h.time_s, 90, "accent", 1.0, 0.0) for h in hits]
    sound, _, _ = _song(np.full(16, SPEAKS_S))
    assert at_their_beginning(hats, sound, "hat", RATE) == hats


def test_no_hit_is_moved_farther_than_a_beginning_can_be() -> None:
    sound, _, hits = _song(np.linspace(0, 0.012, 20))
    moved = at_their_beginning(hits, sound, "kick", RATE)
    by = [then.time_s - now.time_s for now, then in zip(hits, moved, strict=True)]
    assert min(by) >= -MOST_S
    assert max(by) <= 0


@pytest.mark.parametrize("seed", [1, 2])
def test_a_touch_under_bleed_is_found_by_what_all_hits_share(seed: int) -> None:
    """Another drum plays all through it, louder than the touch; hits follow each other in sixteenths, so that none
    begins in silence."""
    rng = np.random.default_rng(seed)
    touch = 0.06 * rng.standard_normal(round(SPEAKS_S * RATE))
    t = np.arange(RATE // 10) / RATE
    one = np.sin(2 * np.pi * 90 * t) * np.exp(-t / 0.04)
    true = 0.5 + 0.09 * np.arange(80) + rng.uniform(0, 0.004, 80)
    sound = np.convolve(
        0.02 * rng.standard_normal(round((true[-1] + 1) * RATE)), np.ones(3), "same"
    )
    for at in true:
        first, gain = round(at * RATE), rng.uniform(0.6, 1.0)
        sound[first : first + len(touch)] += gain * touch
        sound[first + len(touch) : first + len(touch) + len(one)] += gain * one
    late = np.where(rng.random(80) < 0.7, SPEAKS_S, 0.0)
    hits = [
        Hit(hit_id("tom_1", t), "tom_1", t, 90, "plain", 1.0, 0.0) for t in (true + late).tolist()
    ]
    moved = at_their_beginning(hits, sound.astype(np.float32), "tom_1", RATE)
    apart = np.abs(np.array([h.time_s for h in moved]) - true)
    assert np.percentile(apart, 95) < 0.0008
    # One by one they were found at either end of it.
    assert np.percentile(late, 50) == SPEAKS_S
