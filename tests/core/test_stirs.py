"""Where sound begins anew about an onset."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.stirs import APART_S, MOST, newness, stirs

RATE = 48_000


def _bursts(places_s: list[float], gains: list[float]) -> NDArray[np.float32]:
    rng = np.random.default_rng(8)
    out = rng.standard_normal(RATE // 2) * 1e-5
    t = np.arange(RATE // 20) / RATE
    for at, gain in zip(places_s, gains, strict=True):
        start = round(at * RATE)
        out[start : start + len(t)] += gain * rng.standard_normal(len(t)) * np.exp(-t / 0.004)
    return out.astype(np.float32)


def test_a_soft_stroke_before_a_loud_one_has_a_place_of_its_own() -> None:
    sound = _bursts([0.194, 0.2], [0.05, 1.0])
    places, of = stirs(sound, np.array([round(0.2 * RATE)]), RATE)
    assert of.tolist() == [0] * len(places)
    assert sorted(places / RATE)[:2] == pytest.approx([0.194, 0.2], abs=5e-4)
    new_db, loud_db = newness(sound, np.array([0.194, 0.2, 0.21]) * RATE, RATE)
    assert new_db[:2].min() > 10 > 3 > new_db[2]
    assert loud_db[1] == pytest.approx(0, abs=0.5)
    assert loud_db[0] == pytest.approx(-26, abs=4)


def test_places_are_apart_few_and_within_the_sound() -> None:
    sound = _bursts([0.19, 0.1935, 0.197, 0.2005, 0.204, 0.2075], [1.0] * 6)
    at = np.array([round(0.2 * RATE), 3, len(sound) - 3])
    places, of = stirs(sound, at, RATE)
    first = np.sort(places[of == 0])
    assert len(first) == MOST
    assert np.diff(first).min() >= APART_S * RATE
    assert (places >= 0).all()
    assert (places < len(sound)).all()
    assert not (of == 1).any()


def test_silence_stirs_nowhere() -> None:
    sound = np.zeros(RATE // 4, np.float32)
    places, _ = stirs(sound, np.array([4000]), RATE)
    assert len(places) == 0
    assert newness(sound, np.array([4000.0]), RATE)[0] == pytest.approx([0.0])
