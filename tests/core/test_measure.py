"""Measures against closed forms and an independent library."""

import time
from pathlib import Path

import numpy as np
import pyloudnorm
import pytest
import soundfile as sf
from scipy import signal

from arkund.core.audio import samples
from arkund.core.audio.files import MonoFile
from arkund.core.audio.overview import Overview
from arkund.core.hits.hit import Hit
from arkund.core.measure.hits import hit_spectrum, ring_time_s
from arkund.core.measure.levels import (
    attack_to_body_db,
    clipped_runs,
    measure_mic,
    measure_sound,
    noise_floor_dbfs,
)
from arkund.core.measure.loudness import Loudness, loudness_lufs, true_peak
from arkund.core.timing.beginning import first_grid
from arkund.core.timing.grid import Grid, estimate_tempo, parse_meter, tempo_by_backbeat
from arkund.core.units import hz_to_note, note_to_hz

RATE = 48000


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
@pytest.mark.parametrize("channels", [1, 2])
def test_loudness_against_pyloudnorm(rate: int, channels: int) -> None:
    rng = np.random.default_rng(4)
    sound = rng.standard_normal((rate * 6, channels)) * np.linspace(0.001, 0.3, rate * 6)[:, None]
    sound = sound.astype(np.float32).squeeze()
    wanted = pyloudnorm.Meter(rate).integrated_loudness(sound.astype(np.float64))
    assert loudness_lufs(sound, rate) == pytest.approx(wanted, abs=0.1)


def test_loudness_is_the_same_in_blocks_of_any_length() -> None:
    sound = np.random.default_rng(4).standard_normal((8000 * 3, 2)).astype(np.float32) * 0.1
    whole, cut = loudness_lufs(sound, 8000), Loudness(8000, 2)
    for block in np.split(sound, [100, 130, 9000, 9001]):
        cut.feed(block)
    assert cut.lufs() == pytest.approx(whole, abs=1e-6)


def test_true_peak_between_samples() -> None:
    # A quarter of the rate, an eighth of a turn off: every sample stands at 0.707 of the peak.
    sine = np.sin(np.pi / 2 * np.arange(4000) + np.pi / 4).astype(np.float32)
    assert np.abs(sine).max() == pytest.approx(0.7071, abs=1e-3)
    assert true_peak(sine[500:3500] * np.hanning(3000).astype(np.float32)) == pytest.approx(
        1, abs=0.02
    )


@pytest.mark.parametrize("at", [0, 1, 11, 63, 64, 65, 127, 128, 500, 998])
def test_true_peak_by_its_definition_wherever_the_loudest_lies(at: int) -> None:
    sound = np.random.default_rng(at).standard_normal(1000).astype(np.float32) * 0.01
    sound[at : at + 2] = 0.7, 0.6
    # Two like neighbours: what lies between them is larger than both.
    around = np.pad(sound.astype(np.float64), 200)
    wanted = np.abs(signal.resample_poly(around, 4, 1, window=("kaiser", 8.0)))
    assert true_peak(sound) == pytest.approx(wanted[: 4 * 1199].max(), rel=0.02)
    assert true_peak(sound) > 0.75


def test_measures_of_a_known_signal() -> None:
    sound = np.zeros(RATE * 2, np.float32)
    for at in range(0, RATE * 2, RATE // 4):
        sound[at + 100 : at + 200] = 0.25
    sound[RATE : RATE + 3] = 1.0
    sound += 0.01
    got = measure_mic(sound, RATE, [0.25 * n for n in range(8)])
    assert got.peak_dbfs == pytest.approx(0.09, abs=0.01)
    assert got.peak_at_s == 1.0
    assert got.dc == pytest.approx(0.01, abs=1e-6)
    assert got.clipped_runs == [(1.0, 3)]
    assert {"clipped", "dc", "hot", "wild"} <= set(got.flags)


def test_hits_that_swing_to_one_side_are_no_offset() -> None:
    """A kick pushes air before it pulls: its mean is not zero, the silence between two is."""
    rng = np.random.default_rng(6)
    sound = (1e-4 * rng.standard_normal(RATE * 8)).astype(np.float32)
    shape = np.exp(-np.arange(RATE // 8) / 1500).astype(np.float32)
    for at in range(RATE // 2, RATE * 8 - RATE // 4, RATE // 2):
        sound[at : at + len(shape)] += 0.5 * shape
    assert sound.mean() > 0.02
    got = measure_mic(sound, RATE)
    assert abs(got.dc) < 1e-4
    assert "dc" not in got.flags
    hum = 0.01 * np.sin(2 * np.pi * 50 * np.arange(len(sound)) / RATE)
    offset = measure_mic((sound + hum - 0.006).astype(np.float32), RATE)
    assert offset.dc == pytest.approx(-0.006, abs=1e-4)
    assert "dc" in offset.flags


def test_power_floor_and_offset_by_their_definitions() -> None:
    rng = np.random.default_rng(5)
    sound = (0.02 * rng.standard_normal(RATE * 3 + 777)).astype(np.float32)
    sound[RATE : 2 * RATE] *= np.float32(0.1)
    sound += np.float32(0.003)
    got, known = measure_mic(sound, RATE), measure_sound(sound, RATE)
    assert known is not None
    exact = sound.astype(np.float64)
    step = RATE // 50
    powers = np.mean(exact[: len(exact) // step * step].reshape(-1, step) ** 2, axis=1)
    assert known.power == pytest.approx(np.mean(exact**2), rel=1e-12)
    tenths = exact[: 5 * step * (len(exact) // (5 * step))].reshape(-1, 5 * step)
    quietest = np.argsort(tenths.var(axis=1))[: len(tenths) // 5]
    assert known.dc == pytest.approx(np.median(tenths.mean(axis=1)[quietest]), rel=1e-6)
    assert known.dc == pytest.approx(0.003, abs=3e-5)
    wanted = 10 * np.log10(np.percentile(powers, 5))
    assert noise_floor_dbfs(sound, RATE) == pytest.approx(wanted, abs=1e-9)
    # What was measured beforehand is taken as it is.
    assert measure_mic(sound, RATE, (), known) == got
    assert measure_sound(np.zeros(100, np.float32), RATE) is None


def test_silence_is_measured_without_complaint() -> None:
    assert measure_mic(np.zeros(1000, np.float32), RATE).flags == ["silent"]


def test_single_full_samples_are_no_clipping() -> None:
    assert clipped_runs(np.array([0, 1, 0, 1, 1, 0], np.float32), RATE) == [(round(3 / RATE, 5), 2)]


def test_attack_to_body_of_a_known_hit() -> None:
    sound = np.zeros(RATE, np.float32)
    sound[: RATE // 100] = 0.8
    sound[RATE // 50 : RATE // 10] = 0.2
    assert attack_to_body_db(sound, RATE, [0.0]) == pytest.approx(12.04, abs=0.05)


def test_ring_time_of_a_known_decay() -> None:
    time = np.arange(RATE) / RATE
    ring = np.sin(2 * np.pi * 200 * time) * 10 ** (-20 * time / 0.4 / 20)
    sound = np.concatenate([ring, ring]).astype(np.float32)
    assert ring_time_s(sound, RATE, [0.0, 1.0], 20.0) == pytest.approx(0.4, abs=0.04)


def test_spectrum_shows_a_drum_where_it_sounds() -> None:
    time = np.arange(RATE) / RATE
    own = np.sin(2 * np.pi * 200 * time) * np.exp(-time / 0.1)
    other = np.sin(2 * np.pi * 3000 * time) * np.exp(-time / 0.1) * 0.1
    sound = np.concatenate([own, other] * 4).astype(np.float32)
    found = hit_spectrum(sound, RATE, [0.0, 2.0, 4.0], [1.0, 3.0, 5.0])
    assert found.hz[np.argmax(found.hits_db)] == pytest.approx(200, rel=0.05)
    assert found.hz[np.argmax(found.bleed_db)] == pytest.approx(3000, rel=0.05)


@pytest.mark.parametrize("bpm", [72.0, 104.0, 176.0])
def test_tempo_within_two_permille(bpm: float) -> None:
    rng = np.random.default_rng(round(bpm))
    grid = 60 / bpm / 2
    steps = np.sort(rng.choice(200, 140, replace=False))
    times = 0.7 + steps * grid + rng.normal(0, 0.005, 140)
    found = estimate_tempo(times, np.ones(140))
    assert found is not None
    ratios = [found[0] / bpm * k for k in (0.5, 1, 2)]
    assert min(abs(r - 1) for r in ratios) < 0.002


def test_tempo_of_nothing_is_not_guessed() -> None:
    assert estimate_tempo(np.array([0.1, 0.5]), np.ones(2)) is None


def test_places_in_bars_and_beats() -> None:
    grid = Grid(120, 4, 4, 1.0)
    assert grid.place(1.0) == "1.1.00"
    assert grid.place(3.75) == "2.2.50"
    assert grid.frames_of_bars(2, 3, 1000) == (3000, 7000)
    assert grid.bars_in(7.0) == 3
    with pytest.raises(ValueError, match="not a meter"):
        parse_meter("4/5")


def test_notes_and_hertz() -> None:
    assert note_to_hz("A1") == pytest.approx(55.0)
    assert hz_to_note(54.0) == "A1"
    with pytest.raises(ValueError, match="not a note"):
        note_to_hz("H2")


@pytest.mark.parametrize("ratio", [0.5, 2 / 3, 1.0, 1.5, 2.0])
def test_the_tempo_is_the_one_with_the_snare_on_two_and_four(ratio: float) -> None:
    """Whatever related tempo was found first."""
    rng = np.random.default_rng(7)
    true = 92.0
    backbeats = (1 + 2 * np.arange(24)) * 60 / true + rng.normal(0, 0.004, 24)
    assert tempo_by_backbeat(true / ratio, backbeats, np.zeros(24)) == pytest.approx(true)


def test_hits_after_the_backbeat_do_not_hide_it() -> None:
    """A shuffle read at one and a half times its tempo, each second accent followed by a hit
    5 dB under it and the others by ghosts."""
    accents = (1 + 2 * np.arange(24)) * 60 / 76
    times = np.sort(np.concatenate([accents, accents + 2 / 3 * 60 / 76]))
    levels = np.where(np.arange(48) % 4 == 1, -5.0, np.where(np.arange(48) % 2, -14.0, 0.0))
    assert tempo_by_backbeat(114.0, times, levels) == pytest.approx(76.0)


def test_a_roll_is_no_backbeat() -> None:
    beat = 0.6
    backbeats = (1 + 2 * np.arange(16)) * beat
    rolls = np.concatenate([b + 0.5 * beat + np.arange(0, 0.5, 0.06) for b in backbeats[::2]])
    times = np.sort(np.concatenate([backbeats, rolls]))
    assert tempo_by_backbeat(100.0, times, np.zeros(len(times))) == 100.0


def test_few_backbeats_do_not_overrule() -> None:
    assert tempo_by_backbeat(140.0, np.array([1.0, 3.0, 5.0]), np.zeros(3)) == 140.0


def test_a_tempo_out_of_all_reason_is_not_taken() -> None:
    """Backbeats four seconds apart would mean 30 beats a minute."""
    assert tempo_by_backbeat(60.0, 4.0 * np.arange(12), np.zeros(12)) == 60.0


def test_a_recording_of_two_hours_has_a_tempo_within_seconds() -> None:
    beats = np.arange(0.25, 7200.0, 60 / 97 / 2)
    hits = [
        Hit(str(n), ("kick", "hat", "snare", "hat")[n % 4], float(at), 90, "plain", 1.0, 0.0)
        for n, at in enumerate(beats)
    ]
    began = time.process_time()
    assert first_grid(hits, 4, 4).bpm == pytest.approx(97, abs=0.05)
    assert time.process_time() - began < 10
    assert first_grid([], 4, 4).bpm == 120


def test_sound_of_hours_is_measured_in_parts_as_if_in_one(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    rng = np.random.default_rng(9)
    sound = (0.05 * rng.standard_normal(RATE * 10 + 777)).astype(np.float32)
    for hz in (50, 100, 150):
        sound += np.float32(0.01) * np.sin(np.arange(len(sound)) * 2 * np.pi * hz / RATE)
    # At full scale from one part into the next, the second of which holds the peak.
    border = RATE * 3
    sound[border - 2 : border + 2] = [1.0, 1.0, 1.01, 1.0]
    path = tmp_path / "room.wav"
    sf.write(path, np.column_stack([np.zeros_like(sound), sound]), RATE, subtype="FLOAT")
    whole, drawn = measure_mic(sound, RATE), Overview.of(sound)
    monkeypatch.setattr(samples, "PART", RATE)
    file = MonoFile(path, "right")
    sizes: list[int] = []
    taken = MonoFile.__getitem__
    monkeypatch.setattr(
        MonoFile, "__getitem__", lambda f, some: sizes.append(len(got := taken(f, some))) or got
    )
    got = measure_mic(file, RATE)
    assert got.clipped_runs == [(round(3 - 2 / RATE, 5), 4)]
    assert (got.hum_hz, got.peak_at_s) == (50.0, 3.0)
    assert got == whole
    assert np.array_equal(Overview.of(file).extremes, drawn.extremes)
    assert max(sizes) <= RATE
