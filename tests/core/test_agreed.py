"""Where soft hits begin, by what the drum's other hits say."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.hear.agreed import FEWEST, LEAST_S, agreed, shaped
from arkund.core.hits.hear.slowed import Slowed, slowed

RATE = 48_000
BEGINS_S = np.arange(1, 13) * 0.31
SOFT_MS = 6.6


def _hit(rng: np.random.Generator) -> NDArray[np.float64]:
    """A stick that touches 26 dB under the hit before it strikes; no two ring quite alike."""
    t = np.arange(round(0.2 * RATE)) / RATE
    after = np.clip(t - SOFT_MS / 1000, 0, None)
    struck = np.exp(-after / 0.04) * np.where(t < SOFT_MS / 1000, 0.05, 1.0)
    ring = sum(
        a * np.sin(2 * np.pi * hz * (1 + rng.normal(0, 0.003)) * after + phase)
        for hz, a, phase in ((330, 1.0, 0.4), (710, 0.6, 2.0), (1370, 0.5, 1.1))
    )
    return struck * (np.where(t < SOFT_MS / 1000, 0.0, ring) + 0.4 * rng.standard_normal(len(t)))


def _played(begins_s: NDArray[np.float64], seed: int = 4) -> Slowed:
    rng = np.random.default_rng(seed)
    out = 1e-4 * rng.standard_normal(round((begins_s[-1] + 1) * RATE))
    for at in begins_s:
        start, one = round(at * RATE), _hit(rng)
        out[start : start + len(one)] += 0.1 * one
    return shaped(slowed(out.astype(np.float32), RATE))


def _errors_ms(placed: NDArray[np.float64]) -> NDArray[np.float64]:
    return (placed / RATE - BEGINS_S) * 1000


LEVEL_DB = np.linspace(-20, -14, len(BEGINS_S))


@pytest.mark.parametrize("late_ms", [SOFT_MS, -4.0])
def test_a_hit_noticed_elsewhere_is_put_where_the_others_say(late_ms: float) -> None:
    noticed = BEGINS_S.copy()
    noticed[[2, 7, 10]] += late_ms / 1000
    placed = agreed(_played(BEGINS_S), noticed * RATE, LEVEL_DB)
    assert _errors_ms(placed) == pytest.approx(0, abs=1.0)


def test_hits_that_agree_stay_to_the_sample() -> None:
    noticed = (BEGINS_S + np.random.default_rng(1).uniform(-1, 1, len(BEGINS_S)) * 5e-4) * RATE
    assert np.array_equal(agreed(_played(BEGINS_S), noticed, LEVEL_DB), noticed)


def test_what_is_nearly_right_stays() -> None:
    noticed = BEGINS_S.copy()
    noticed[4] += 0.8 * LEAST_S
    placed = agreed(_played(BEGINS_S), noticed * RATE, LEVEL_DB)
    assert np.array_equal(placed, noticed * RATE)


def test_hits_that_sound_otherwise_say_nothing() -> None:
    """Noise is not like any other noise."""
    rng = np.random.default_rng(2)
    noise = shaped(slowed(rng.standard_normal(5 * RATE).astype(np.float32), RATE))
    assert np.array_equal(agreed(noise, BEGINS_S * RATE, LEVEL_DB), BEGINS_S * RATE)


def test_few_hits_say_nothing() -> None:
    few = BEGINS_S[:FEWEST] * RATE
    few[1] += SOFT_MS / 1000 * RATE
    assert np.array_equal(agreed(_played(BEGINS_S), few, LEVEL_DB[:FEWEST]), few)


def test_hits_at_the_ends_of_the_sound_are_left_alone() -> None:
    slow = _played(BEGINS_S)
    last = len(slow.sound) * slow.step - 10.0
    at = np.concatenate([[5.0], BEGINS_S * RATE, [last]])
    at[3] += SOFT_MS / 1000 * RATE
    placed = agreed(slow, at, np.concatenate([[-20.0], LEVEL_DB, [-14.0]]))
    assert (placed[0], placed[-1]) == (5.0, last)
    assert _errors_ms(placed[1:-1]) == pytest.approx(0, abs=1.0)


def test_a_longer_song_is_told_as_a_short_one() -> None:
    """More hits than any one has peers."""
    begins = np.arange(1, 61) * 0.25
    noticed = begins.copy()
    noticed[5::9] += SOFT_MS / 1000
    levels = np.random.default_rng(3).uniform(-22, -12, len(begins))
    placed = agreed(_played(begins), noticed * RATE, levels)
    assert placed / RATE == pytest.approx(begins, abs=1e-3)
