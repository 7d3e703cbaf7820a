"""Fundamental, ring, hump and attack of drums whose modes are known."""

import numpy as np
import pytest

from arkund.core.measure import landmarks
from arkund.core.measure.hits import ring_by_band_s
from arkund.core.measure.landmarks import (
    attack_hz,
    fundamental_hz,
    fundamental_line,
    hump,
    line_decay,
    rings,
    under_loudest_db,
)

RATE = 48000
ONSETS = [0.5 + 0.9 * n for n in range(8)]


def _drum(modes: list[tuple[float, float, float]], noise: float = 1e-4) -> np.ndarray:
    """Hits of decaying sines, (Hz, T60 in s, level), over noise."""
    rng = np.random.default_rng(5)
    out = rng.standard_normal(round(8.5 * RATE)) * noise
    after = np.arange(round(1.2 * RATE)) / RATE
    for onset in ONSETS:
        at = round(onset * RATE)
        for hz, t60, level in modes:
            ring = level * np.sin(2 * np.pi * hz * after) * 10 ** (-3 * after / t60)
            out[at : at + len(ring)] += ring[: len(out) - at]
        burst = rng.standard_normal(480) * np.exp(-np.arange(480) / 96) * 0.3
        at = round(onset * RATE)
        out[at : at + 480] += burst
    return out.astype(np.float32)


@pytest.mark.parametrize(
    ("family", "hz"), [("kick", 57.3), ("snare", 187.0), ("snare", 244.0), ("tom", 91.4)]
)
def test_the_fundamental_is_placed_within_one_percent(family: str, hz: float) -> None:
    sound = _drum([(hz, 0.3, 0.5), (1.59 * hz, 0.2, 0.35), (2.14 * hz, 0.15, 0.3)])
    assert fundamental_hz(sound, RATE, ONSETS, family) == pytest.approx(hz, rel=0.01)


def test_bleed_of_another_drum_is_not_the_fundamental() -> None:
    sound = _drum([(120.0, 0.5, 0.5), (75.0, 0.5, 0.25)])
    assert fundamental_hz(sound, RATE, ONSETS, "tom") == pytest.approx(120.0, rel=0.01)


@pytest.mark.parametrize(
    ("lower_db", "hz", "is_clear"),
    [
        (
            -2.0,
            75.0,
            True,
        ),  # a line within four dB of the highest is the fundamental, two dB within
        (-3.6, 75.0, False),  # as good as not
        (-4.4, 120.0, False),  # as good as within
        (-7.0, 120.0, True),
    ],
)
def test_a_fundamental_that_turns_on_tenths_is_called_unclear(
    lower_db: float, hz: float, is_clear: bool
) -> None:
    sound = _drum([(120.0, 0.5, 0.5), (75.0, 0.5, 0.5 * 10 ** (lower_db / 20))])
    found = fundamental_line(sound, RATE, ONSETS, "tom")
    assert found.hz == pytest.approx(hz, rel=0.01)
    assert found.is_clear == is_clear, found.margin_db


def test_no_family_no_fundamental() -> None:
    assert fundamental_hz(_drum([(300.0, 1.0, 0.5)]), RATE, ONSETS, "ride") == 0.0
    assert fundamental_hz(_drum([(180.0, 0.2, 0.5)]), RATE, [], "snare") == 0.0


@pytest.mark.parametrize(("hz", "t60"), [(402.0, 0.85), (655.0, 0.6), (511.0, 1.2)])
def test_a_ring_is_found_with_its_decay(hz: float, t60: float) -> None:
    sound = _drum([(188.0, 0.2, 0.6), (300.0, 0.15, 0.3), (hz, t60, 0.15)])
    found = rings(sound, RATE, ONSETS, 188.0, 1800.0)
    assert len(found) == 1
    assert found[0].hz == pytest.approx(hz, rel=0.01)
    assert found[0].t60_s == pytest.approx(t60, rel=0.15)


def test_modes_that_die_sooner_than_the_fundamental_do_not_ring() -> None:
    sound = _drum([(110.0, 0.8, 0.6), (175.0, 0.5, 0.4), (235.0, 0.4, 0.4)])
    assert rings(sound, RATE, ONSETS, 110.0, 800.0) == []


def test_a_steady_tone_is_no_ring_for_no_hit_sets_it_off() -> None:
    sound = _drum([(188.0, 0.2, 0.6)])
    time = np.arange(len(sound)) / RATE
    sound = (sound + 0.05 * np.sin(2 * np.pi * 420 * time)).astype(np.float32)
    assert rings(sound, RATE, ONSETS, 188.0, 1800.0) == []


def test_a_line_s_decay_is_measured() -> None:
    found = line_decay(_drum([(76.0, 1.0, 0.4)]), RATE, ONSETS, 76.0)
    assert found.t60_s == pytest.approx(1.0, rel=0.1)
    assert found.rise_db > 20


def test_a_broad_hump_is_found_and_a_line_is_none() -> None:
    rng = np.random.default_rng(8)
    time = np.arange(round(8.5 * RATE)) / RATE
    flat = np.zeros(len(time))
    for onset in ONSETS:
        at = round(onset * RATE)
        noise = rng.standard_normal(9600) * np.exp(-np.arange(9600) / 3000)
        spectrum = np.fft.rfft(noise)
        hz = np.fft.rfftfreq(9600, 1 / RATE)
        spectrum *= 10 ** (9 * np.exp(-(np.log2(np.maximum(hz, 1) / 400) ** 2) / 0.18) / 20)
        flat[at : at + 9600] += np.fft.irfft(spectrum, 9600)
    found = hump(flat.astype(np.float32), RATE, ONSETS, (250.0, 700.0))
    assert found.hz == pytest.approx(400, rel=0.2)
    assert 4 < found.excess_db < 12
    line = hump(_drum([(400.0, 0.5, 0.05)], noise=0.02), RATE, ONSETS, (250.0, 700.0))
    assert line.excess_db < 4


def test_where_the_attack_stands_out() -> None:
    sound = _drum([(60.0, 0.3, 0.3), (3200.0, 0.012, 1.5)])
    assert attack_hz(sound, RATE, ONSETS, (2500.0, 5000.0)) == pytest.approx(3200, rel=0.12)


def test_rings_by_band_against_decays_that_are_known() -> None:
    """Two tones whose fall to 60 dB takes 1.2 and 0.3 s, under a floor that hides the end."""
    rate, onsets = 48000, [0.2, 1.2, 2.2]
    sound = np.random.default_rng(2).standard_normal(rate * 4) * 2e-4
    time = np.arange(rate) / rate
    for hz, t60, gain in ((90.0, 1.2, 0.5), (4000.0, 0.3, 0.3)):
        ring = gain * np.sin(2 * np.pi * hz * time) * 10 ** (-3 * time / t60)
        for onset in onsets:
            sound[round(onset * rate) : round(onset * rate) + rate] += ring
    found = ring_by_band_s(sound.astype(np.float32), rate, onsets)
    assert found.shape == (4, 2)
    assert found[1] == pytest.approx([0.4, 1.2], rel=0.08)
    assert found[3] == pytest.approx([0.1, 0.3], rel=0.2)


@pytest.mark.parametrize("under", [0.0, 9.0, 24.0])
def test_an_octave_stands_as_far_under_the_loudest_as_it_was_put(under: float) -> None:
    """Two sines that ring alike, 3000 Hz so many dB softer than 100."""
    t = np.arange(round(8.5 * RATE)) / RATE
    sound = np.zeros(len(t))
    for onset in ONSETS:
        since = np.maximum(t - onset, 0)
        ring = np.where(t >= onset, 10 ** (-3 * since / 0.2), 0.0)
        for hz, level_db in ((100, 0.0), (3000, -under)):
            sound += ring * 10 ** (level_db / 20) * np.sin(2 * np.pi * hz * since)
    heard = (0.3 * sound).astype(np.float32)
    assert under_loudest_db(heard, RATE, ONSETS, 3000) == pytest.approx(-under, abs=0.8)
    assert under_loudest_db(heard, RATE, ONSETS, 100) == pytest.approx(0, abs=0.6)
    assert under_loudest_db(10 * heard, RATE, ONSETS, 3000) == pytest.approx(-under, abs=0.8)


@pytest.mark.parametrize("slope", [[0.0, 1.0, 2.0], [0.0, 1.0, 2.0 - 1e-9], [3.0, 1.0, 0.9]])
def test_where_a_slope_is_taken_for_a_peak_its_place_stays_in_its_bin(slope: list[float]) -> None:
    hz = np.array([0.0, 10.0, 20.0, 30.0, 40.0])
    db = np.array([0.0, *slope, 0.0])
    assert abs(landmarks._place(hz, db, 2) - 20.0) <= 5.0
    assert landmarks._place(hz, np.array([0.0, 1.0, 3.0, 1.0, 0.0]), 2) == 20.0
