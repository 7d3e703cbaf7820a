"""Where sound begins anew about an onset."""

import numpy as np
import pytest
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.slowed import Slowed, slowed
from arkund.core.hits.hear.stirs import APART_S, DULL, DULL_HZ, MID_HZ, MOST, newness, stirs

RATE = 48_000


def _bursts(places_s: list[float], gains: list[float]) -> NDArray[np.float32]:
    rng = np.random.default_rng(8)
    out = rng.standard_normal(RATE // 2) * 1e-5
    t = np.arange(RATE // 20) / RATE
    for at, gain in zip(places_s, gains, strict=True):
        start = round(at * RATE)
        out[start : start + len(t)] += gain * rng.standard_normal(len(t)) * np.exp(-t / 0.004)
    return out.astype(np.float32)


def test_a_soft_hit_before_a_loud_one_has_a_place_of_its_own() -> None:
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


def _within(sound: NDArray[np.float32], band_hz: tuple[float, float]) -> NDArray[np.float32]:
    return Slowed(sound, 1, RATE).within(band_hz)


def test_a_ghost_under_a_hat_begins_where_the_drum_s_body_does() -> None:
    """A soft 200 Hz hit 7 ms before a hat that is ten times louder in its mic."""
    rng, t = np.random.default_rng(5), np.arange(RATE // 10) / RATE
    sound = rng.standard_normal(RATE // 2) * 1e-5
    ghost, hat = round(0.193 * RATE), round(0.2 * RATE)
    sound[ghost : ghost + len(t)] += 0.1 * np.sin(2 * np.pi * 200 * t) * np.exp(-t / 0.02)
    bright = scipy.signal.butter(4, 5000, "highpass", fs=RATE, output="sos")
    hiss = scipy.signal.sosfilt(bright, rng.standard_normal(len(t)))
    sound[hat : hat + len(t)] += hiss * np.exp(-t / 0.02)
    heard = sound.astype(np.float32)
    body = _within(heard, DULL_HZ)
    both = np.array([ghost, hat], np.float64)
    whole_db, dull_db = newness(heard, both, RATE)[0], newness(body, both, RATE, DULL)[0]
    assert whole_db[1] > 20
    assert dull_db[0] > dull_db[1] + 10
    places, _ = stirs(body, np.array([hat]), RATE, DULL)
    assert np.abs(places - ghost).min() < 0.0015 * RATE
    assert np.abs(places - hat).min() > 0.003 * RATE


def test_a_ghost_behind_a_kick_begins_where_its_stick_does() -> None:
    """A 70 Hz hit with a faint beater, and 6 ms behind it a ghost a quarter as loud, whose stick and
    wires are louder than the beater."""
    rng, t = np.random.default_rng(8), np.arange(RATE // 10) / RATE
    sound = rng.standard_normal(RATE // 2) * 1e-5
    kick, ghost = round(0.2 * RATE), round(0.206 * RATE)
    sound[kick : kick + len(t)] += 0.4 * np.sin(2 * np.pi * 170 * t) * np.exp(-t / 0.03)
    sound[kick : kick + len(t)] += 0.004 * rng.standard_normal(len(t)) * np.exp(-t / 0.004)
    sound[ghost : ghost + len(t)] += 0.05 * rng.standard_normal(len(t)) * np.exp(-t / 0.01)
    heard = sound.astype(np.float32)
    both = np.array([kick, ghost], np.float64)
    loud_db = {
        band: newness(_within(heard, band), both, RATE, DULL)[1] for band in (DULL_HZ, MID_HZ)
    }
    assert loud_db[DULL_HZ][0] > -6
    assert loud_db[MID_HZ][1] > -2
    assert loud_db[MID_HZ][0] < loud_db[MID_HZ][1] - 6


@pytest.mark.parametrize("rate", [44_100, 48_000, 96_000])
def test_a_sound_slowed_is_whole_below_3_khz_in_time_and_free_of_what_lies_above_9(
    rate: int,
) -> None:
    t = np.arange(rate) / rate
    low, high = np.sin(2 * np.pi * 2900 * t), np.sin(2 * np.pi * 9600 * t)
    kept = slowed(low.astype(np.float32), rate)
    assert 11_900 < kept.rate < 15_000
    inside = slice(200, -200)
    assert kept.sound[inside] == pytest.approx(low[:: kept.step][inside], abs=0.12)
    folded = slowed(high.astype(np.float32), rate).sound[inside]
    assert np.abs(folded).max() < 10 ** (-45 / 20)
