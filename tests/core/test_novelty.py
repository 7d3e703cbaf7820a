"""Where something may start: bands, rises, candidates."""

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import signal

from arkund.core.hits.hear.novelty import (
    AFTER_MS,
    BAND_EDGES_HZ,
    BANDS,
    BEFORE_MS,
    SMOOTH_MS,
    BandEnergy,
    band_energy,
    band_filter,
    candidates,
)

RATE = 48000


def _noise(seconds: float, level: float, seed: int = 1) -> NDArray[np.float32]:
    rng = np.random.default_rng(seed)
    return (level * rng.standard_normal(round(seconds * RATE))).astype(np.float32)


def _burst(
    level: float, decay_s: float, seconds: float = 0.15, seed: int = 2
) -> NDArray[np.float64]:
    t = np.arange(round(seconds * RATE)) / RATE
    return level * np.random.default_rng(seed).standard_normal(len(t)) * np.exp(-t / decay_s)


@pytest.mark.parametrize("band", range(BANDS))
def test_a_band_passes_its_middle_and_little_two_octaves_off(band: int) -> None:
    low, high = BAND_EDGES_HZ[band : band + 2]
    at = np.array([np.sqrt(low * high), low / 4, min(high * 4, 23000)])
    _, response = signal.freqz_sos(band_filter(band, RATE), at, fs=RATE)
    db = 20 * np.log10(np.abs(response) + 1e-12)
    assert db[0] > -3
    assert db[1] < -20
    if high * 4 < 23000:
        assert db[2] < -20


@pytest.mark.parametrize("hz", [70.0, 200.0, 700.0, 2500.0, 8000.0])
def test_a_tone_s_energy_lies_in_its_band(hz: float) -> None:
    tone = np.sin(2 * np.pi * hz * np.arange(RATE) / RATE).astype(np.float32)
    energy = band_energy(tone, RATE).energy[200:].mean(axis=0)
    own = int(np.searchsorted(BAND_EDGES_HZ, hz)) - 1
    assert int(np.argmax(energy)) == own
    assert energy[own] == pytest.approx(0.5, rel=0.5)


def test_energy_is_that_of_a_slow_reference() -> None:
    sound = _noise(0.2, 0.1)
    found = band_energy(sound, RATE)
    for band in (1, 3):
        passed = signal.sosfilt(band_filter(band, RATE), sound.astype(np.float64))
        wanted = np.mean(passed.reshape(-1, found.hop) ** 2, axis=1)
        assert np.allclose(found.energy[:, band], wanted, rtol=1e-3, atol=1e-9)


@pytest.mark.parametrize("frames", [3, 40, 400])
def test_what_was_loud_before_and_after_by_its_definition(frames: int) -> None:
    energy = np.random.default_rng(frames).random((frames, BANDS)).astype(np.float32) ** 4
    bands = BandEnergy(energy, 48, RATE)
    before, after = bands.before_and_after
    last = frames - 1
    for band, length in enumerate(SMOOTH_MS):
        padded = np.concatenate([energy[:, band], np.zeros(length)]).astype(np.float64)
        smooth = [padded[n : n + length].sum() / length for n in range(frames)]
        assert np.allclose(bands.smooth[:, band], smooth, rtol=1e-5)
        smooth = bands.smooth[:, band]
        back = BEFORE_MS - length // 2
        for n in range(frames):
            past = [
                smooth[min(max(k, 0), last)] for k in range(n - length - back + 1, n - length + 1)
            ]
            assert before[n, band] == max(past)
            assert after[n, band] == max(smooth[min(k, last)] for k in range(n, n + AFTER_MS))


def test_the_two_bands_that_rise_most_count() -> None:
    energy = np.full((200, BANDS), 1e-6, np.float32)
    for band, gain_db in ((2, 12.0), (4, 20.0), (5, 6.0), (1, 40.0)):
        energy[100:, band] *= 10 ** (gain_db / 10)
    # The floor counts four times on both sides; band 1 lies under those that are asked.
    wanted = [10 * np.log10((10 ** (db / 10) + 4) / 5) for db in (12.0, 20.0)]
    rise = BandEnergy(energy, 48, RATE).rise
    assert rise.max() == pytest.approx(np.mean(wanted), abs=1e-3)
    assert rise[:60].max() == 0.0


def test_hits_are_offered_once_and_silence_never() -> None:
    sound = _noise(3.0, 1e-4).astype(np.float64)
    places = [0.4, 0.9, 1.0, 1.9, 2.4]
    for n, at in enumerate(places):
        burst = _burst(0.3, 0.02, seed=n)
        begin = round(at * RATE)
        sound[begin : begin + len(burst)] += burst
    found = candidates(band_energy(sound.astype(np.float32), RATE))
    assert np.abs(np.array(places)[:, None] * 1000 - found[None]).min(axis=1).max() <= 3
    assert len(found) == len(places)
    assert len(candidates(band_energy(np.zeros(RATE, np.float32), RATE))) == 0


def test_a_ring_that_beats_is_no_row_of_hits() -> None:
    t = np.arange(RATE * 2) / RATE
    ring = (np.sin(2 * np.pi * 430 * t) + np.sin(2 * np.pi * 437 * t)) * np.exp(-t / 0.8) * 0.2
    found = candidates(band_energy(ring.astype(np.float32), RATE), 6.0)
    assert len(found) <= 2


def test_of_a_flick_and_the_drum_right_after_one_event_remains() -> None:
    sound = _noise(1.0, 1e-4).astype(np.float64)
    for at, level in ((0.500, 0.01), (0.508, 0.5)):
        burst = _burst(level, 0.02)
        begin = round(at * RATE)
        sound[begin : begin + len(burst)] += burst
    assert len(candidates(band_energy(sound.astype(np.float32), RATE))) == 1


def test_a_drum_after_another_s_bleed_is_offered_beside_it() -> None:
    """Sixteen milliseconds on, and louder than what rose first from silence: a hit of its own."""
    sound = _noise(1.0, 1e-5).astype(np.float64)
    for at, level in ((0.500, 0.12), (0.516, 0.5)):
        burst = _burst(level, 0.02)
        begin = round(at * RATE)
        sound[begin : begin + len(burst)] += burst
    found = candidates(band_energy(sound.astype(np.float32), RATE))
    assert [int(abs(f - w) <= 3) for f, w in zip(found, (500, 516), strict=True)] == [1, 1]
