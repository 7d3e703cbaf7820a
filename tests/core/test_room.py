"""Room and plate: decay, density, evenness, mono, sides, and that blocks and places do not matter."""

import math
from itertools import pairwise

import numpy as np
import pytest
import scipy
from numpy.typing import NDArray

from arkund.core.process.room import Room
from arkund.core.process.stage import processor_of

RATE = 48_000
OPEN = {"low_cut_hz": 10, "high_cut_hz": 20_000, "pre_delay_ms": 0, "early": 0, "mod_ms": 0}
EVEN = {**OPEN, "low_factor": 1, "high_factor": 1, "mix": 1}


def response(
    seconds: float = 3.0, sides: tuple[float, float] = (1, 0), **fields: object
) -> NDArray:
    stage = Room.model_validate({**EVEN, **fields})
    process = processor_of(stage, RATE)
    sound = np.zeros((round(seconds * RATE), 2), np.float32)
    sound[0] = sides
    return process.run(sound, process.at_rest(2)).astype(np.float64)


def decay_s(sound: NDArray[np.float64], hz: float) -> float:
    """Seconds to −60 dB by the slope from −5 to −35 dB of what is left (Schroeder 1965), in an octave."""
    band = scipy.signal.butter(3, [hz / 2**0.5, hz * 2**0.5], "band", fs=RATE, output="sos")
    left = np.cumsum((scipy.signal.sosfiltfilt(band, sound) ** 2)[::-1])[::-1]
    db = 10 * np.log10(left / left[0] + 1e-30)
    first, last = (int(np.argmax(db < level)) for level in (-5, -35))
    return 2 * (last - first) / RATE


@pytest.mark.parametrize(("size", "decay"), [(3, 0.3), (6, 0.8), (12, 2.0), (25, 3.0)])
def test_it_decays_as_it_is_set_in_every_octave(size: float, decay: float) -> None:
    tail = response(2 * decay + 0.5, size_m=size, decay_s=decay)
    for hz in (250, 500, 1000, 2000, 4000, 8000):
        found = np.mean([decay_s(tail[:, side], hz) for side in (0, 1)])
        assert found == pytest.approx(decay, rel=0.1), hz


def test_lows_and_highs_decay_by_their_own() -> None:
    tail = response(3.5, decay_s=1.0, low_factor=1.6, high_factor=0.4, high_hz=4000)
    assert decay_s(tail[:, 0], 45) == pytest.approx(1.6, rel=0.12)
    assert decay_s(tail[:, 0], 1000) == pytest.approx(1.0, rel=0.1)
    assert decay_s(tail[:, 0], 14_000) == pytest.approx(0.4, rel=0.12)


def density(sound: NDArray[np.float64], at_s: float) -> float:
    """Echo density over 20 ms, 1 that of noise (Abel and Huang 2006)."""
    middle, half = round(at_s * RATE), round(0.01 * RATE)
    part, window = sound[middle - half : middle + half], np.hanning(2 * half)
    window /= window.sum()
    spread = math.sqrt(float(window @ part**2))
    return float(window @ (np.abs(part) > spread)) / math.erfc(1 / math.sqrt(2))


@pytest.mark.parametrize("surface", ["room", "plate"])
@pytest.mark.parametrize("size", [3, 4])
def test_a_small_one_is_as_dense_as_noise_within_80_ms(size: float, surface: str) -> None:
    tail = response(1.0, size_m=size, surface=surface)
    assert max(density(tail[:, 0], at) for at in (0.06, 0.065, 0.07, 0.075, 0.08)) > 0.95
    assert np.mean([density(tail[:, 0], at) for at in np.arange(0.08, 0.4, 0.02)]) > 0.93


@pytest.mark.parametrize("size", [3, 6, 12])
def test_nothing_is_silent_after_50_ms(size: float) -> None:
    tail = response(1.0, size_m=size, early=0.5)[:, 0]
    blocks = tail[round(0.05 * RATE) : round(0.5 * RATE)].reshape(-1, 240)
    level = 10 * np.log10(np.mean(blocks**2, axis=1) + 1e-30)
    expected = -60 * (0.0525 + 0.005 * np.arange(len(level))) / 0.8
    assert (level - expected - np.median(level - expected)).min() > -12


@pytest.mark.parametrize("size", [3, 6, 25])
def test_no_mode_rings_out_of_its_neighbours(size: float) -> None:
    """Late in the tail the level of every sixth of an octave stands by what lies around it."""
    tail = response(3.0, decay_s=2.0, size_m=size)[round(0.8 * RATE) :]
    hz = np.fft.rfftfreq(len(tail), 1 / RATE)
    power = np.sum(np.abs(np.fft.rfft(tail, axis=0)) ** 2, axis=1)
    edges = 250 * 2 ** (np.arange(0, 34) / 6)
    bands = [power[(hz >= a) & (hz < b)].mean() for a, b in pairwise(edges)]
    db = 10 * np.log10(bands)
    around = scipy.ndimage.median_filter(db, 7, mode="nearest")
    assert np.abs(db - around).max() < 6


def test_what_goes_in_on_one_side_comes_back_on_both_and_mono_loses_nothing() -> None:
    for sides in ((1.0, 0.0), (0.0, 1.0), (1.0, 1.0)):
        tail = response(2.0, sides)
        power = np.mean(tail**2, axis=0)
        assert abs(10 * np.log10(power[0] / power[1])) < 1.0
        mono = np.mean(tail.mean(axis=1) ** 2)
        assert abs(10 * np.log10(2 * mono / power.mean())) < 1.0
    narrow = response(1.0, width=0)
    np.testing.assert_allclose(narrow[:, 0], narrow[:, 1], atol=1e-6)


def test_it_is_as_loud_whatever_its_size_and_decay() -> None:
    levels = [
        10 * np.log10(np.sum(response(6.0, size_m=size, decay_s=decay)[:, 0] ** 2))
        for size in (3, 6, 25)
        for decay in (0.4, 1, 3)
    ]
    assert max(levels) - min(levels) < 3


def test_pre_delay_early_reflections_and_cuts() -> None:
    late = response(0.5, pre_delay_ms=40, early=1.0, size_m=5)
    assert np.abs(late[: round(0.04 * RATE)]).max() == 0
    first = int(np.argmax(np.abs(late[:, 0]) > 0.05))
    assert first == pytest.approx((0.04 + 5 / 343) * RATE, abs=3)
    plate = response(0.5, pre_delay_ms=40, early=1.0, size_m=5, surface="plate")
    assert np.abs(plate[first - 5 : first + 5]).max() < 0.05
    spectrum = np.abs(np.fft.rfft(response(2.0, low_cut_hz=500, high_cut_hz=3000)[:, 0]))
    hz = np.fft.rfftfreq(2 * RATE, 1 / RATE)
    level = [
        np.sqrt(np.mean(spectrum[(hz > f / 1.2) & (hz < f * 1.2)] ** 2)) for f in (60, 1200, 15_000)
    ]
    assert level[0] < 0.05 * level[1]
    assert level[2] < 0.1 * level[1]


@pytest.mark.parametrize("mod", [0.0, 0.4])
def test_a_swinging_tail_is_the_same_wherever_a_block_begins(mod: float) -> None:
    process = processor_of(Room.model_validate({**EVEN, "mod_ms": mod}), RATE)
    sound = np.random.default_rng(2).standard_normal((20_000, 2)).astype(np.float32)
    whole = process.run(sound, process.at_rest(2), at=1000)
    state, parts, at = process.at_rest(2), [], 0
    for size in (64, 640, 64 * 10, 64 * 100, 20_000):
        parts.append(process.run(sound[at : at + size], state, at=1000 + at))
        at = min(at + size, len(sound))
    assert np.abs(np.concatenate(parts) - whole).max() < 1e-5


def test_mono_comes_out_mono_and_mix_is_a_share() -> None:
    sound = np.random.default_rng(3).standard_normal(4000).astype(np.float32)
    wet = processor_of(Room(mix=1.0), RATE)
    half = processor_of(Room(mix=0.25), RATE)
    alone = wet.run(sound, wet.at_rest(1))
    assert alone.shape == sound.shape
    mixed = half.run(sound, half.at_rest(1))
    np.testing.assert_allclose(mixed, 0.75 * sound + 0.25 * alone, atol=1e-6)
    assert Room(mix=0.0).is_transparent
