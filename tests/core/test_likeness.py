"""How much what begins at a place sounds like the drum's clear hits."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.hear.agreed import shaped
from arkund.core.hits.hear.slowed import slowed
from arkund.core.hits.weigh.likeness import FEWEST, likeness

RATE = 48_000
SOFT_S, LOUD_S = np.arange(1, 9) * 0.5, np.arange(1, 9) * 0.5 + 0.25
KICKS_S = np.arange(1, 9) * 0.5 + 0.125
MASKED = 5


def _ring(hz: tuple[float, ...], decay_s: float) -> NDArray[np.float64]:
    t = np.arange(round(0.15 * RATE)) / RATE
    out: NDArray[np.float64] = np.exp(-t / decay_s) * sum(
        np.sin(2 * np.pi * f * t + n) for n, f in enumerate(hz)
    )
    return out


def _song(masked: bool) -> NDArray[np.float32]:
    """Soft hits of one sound, loud ones of another, and kicks, one of them with a soft hit."""
    rng = np.random.default_rng(3)
    out = 1e-4 * rng.standard_normal(round(5 * RATE))
    kick = _ring((90.0, 420.0, 1100.0), 0.03)
    for times, sound, level in (
        (SOFT_S, _ring((310.0, 820.0, 1900.0), 0.02), 0.1),
        (LOUD_S, _ring((360.0, 990.0, 2300.0), 0.05), 0.6),
        (KICKS_S, kick, 0.1),
        (KICKS_S[[MASKED]] if masked else [], _ring((310.0, 820.0, 1900.0), 0.02), 0.1),
    ):
        for at in times:
            start = round(at * RATE)
            wavers = 10 ** (rng.normal(0, 1) / 20)
            out[start : start + len(sound)] += level * wavers * sound
    return out.astype(np.float32)


CLEAR = [(s * RATE, -15.0) for s in SOFT_S] + [(s * RATE, 0.0) for s in LOUD_S]
BLEED = (KICKS_S * RATE).tolist()


def test_each_hit_is_like_those_of_its_own_kind() -> None:
    places = np.concatenate([SOFT_S, LOUD_S]) * RATE
    like = likeness(shaped(slowed(_song(False), RATE)), places, CLEAR, BLEED)
    own, other = np.where(np.arange(16) < 8, [like.soft, like.loud], [like.loud, like.soft])
    assert own.min() > 0.95
    assert other.max() < 0.75
    assert like.soft_usually == pytest.approx(1, abs=0.02)
    assert like.loud_usually == pytest.approx(1, abs=0.02)


def test_a_soft_hit_under_a_kick_is_told_from_the_kick_alone() -> None:
    like = likeness(shaped(slowed(_song(True), RATE)), KICKS_S * RATE, CLEAR, BLEED)
    alone = np.delete(like.soft, MASKED)
    assert like.soft[MASKED] > alone.max() + 0.25
    assert np.delete(like.bleed, MASKED).min() > 0.95
    assert like.bleed[MASKED] < 0.9


def test_no_hit_is_compared_with_itself() -> None:
    """The only one of its sound is like none."""
    sound = _song(False)
    start = round(KICKS_S[2] * RATE)
    sound[start : start + 7200] = np.random.default_rng(1).standard_normal(7200) * 0.1
    clear = [*CLEAR, (float(start), -15.0)]
    like = likeness(shaped(slowed(sound, RATE)), np.array([start], np.float64), clear, BLEED)
    assert like.soft[0] < 0.5


def test_too_few_clear_hits_say_nothing() -> None:
    few = CLEAR[: FEWEST - 1]
    like = likeness(shaped(slowed(_song(False), RATE)), SOFT_S * RATE, few, [])
    assert np.isnan(like.soft).all()
    assert np.isnan(like.loud).all()
    assert np.isnan(like.soft_usually)
    assert np.isnan(like.loud_usually)
    assert np.isnan(like.bleed).all()


def test_places_at_the_ends_of_the_sound_are_not_known() -> None:
    sound = shaped(slowed(_song(False), RATE))
    ends = np.array([3.0, len(sound.sound) * sound.step - 5.0])
    assert np.isnan(likeness(sound, ends, CLEAR, BLEED).soft).all()
