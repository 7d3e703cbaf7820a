"""Bands that move with level: by the static curve, within their range, and not at all where they stand."""

from typing import Any

import numpy as np
import pytest

from arkund.core.process.band import Band, band_sections, moving_band
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import processor_of
from arkund.core.shape import moving
from arkund.core.shape.biquad import response_db

RATE = 48_000
HZ = 1000.0


def eq(**band: Any) -> Equaliser:
    return Equaliser(bands=(Band(id="b1", on=True, frequency_hz=HZ, **band),))


def through(stage: Equaliser, sound: np.ndarray, key: np.ndarray | None = None) -> np.ndarray:
    process: Any = processor_of(stage, RATE)
    channels = 1 if sound.ndim == 1 else 2
    return np.asarray(process.run(sound, process.at_rest(channels), key))


def tone(hz: float, level_db: float, seconds: float = 1.0) -> np.ndarray:
    t = np.arange(round(seconds * RATE)) / RATE
    return (10 ** (level_db / 20) * np.sin(2 * np.pi * hz * t)).astype(np.float32)


def square(level_db: float, seconds: float = 1.0) -> np.ndarray:
    """A key whose magnitude does not swing."""
    return np.full(round(seconds * RATE), 10 ** (level_db / 20), np.float32)


def gain_db(out: np.ndarray, sound: np.ndarray) -> float:
    half = slice(len(sound) // 2, None)
    return float(20 * np.log10(np.std(out[half]) / np.std(sound[half])))


def test_a_band_without_a_way_to_go_is_the_band_that_stands() -> None:
    sound = np.random.default_rng(1).standard_normal(RATE).astype(np.float32) * 0.2
    still, idle = eq(gain_db=-6.0), eq(gain_db=-6.0, range_db=0.0, threshold_db=-60.0)
    assert np.array_equal(through(still, sound), through(idle, sound))
    # And one that never comes over its threshold changes nothing.
    quiet = through(eq(range_db=12.0, threshold_db=0.0), sound)
    assert np.abs(quiet - sound).max() < 1e-7


@pytest.mark.parametrize("range_db", [-12.0, 12.0, -3.0, 6.0])
@pytest.mark.parametrize("level_db", [-40.0, -28.0, -22.0, -10.0, 0.0])
@pytest.mark.parametrize("kind", ["bell", "low_shelf", "high_shelf"])
def test_its_gain_follows_the_static_curve(range_db: float, level_db: float, kind: str) -> None:
    """By its key, at the bell's middle and far out on a shelf, within 0.2 dB."""
    stage = eq(kind=kind, range_db=range_db, threshold_db=-24, ratio=2, q=1, hears="key")
    hz = {"bell": HZ, "low_shelf": 30.0, "high_shelf": 15_000.0}[kind]
    sound = tone(hz, -20)
    found = gain_db(through(stage, sound, square(level_db)), sound)
    settings = moving_band(stage.bands[0], RATE)
    wanted = float(moving.static_move_db(np.array([level_db]), settings)[0])
    assert found == pytest.approx(wanted, abs=0.2)


@pytest.mark.parametrize("kind", ["bell", "low_shelf", "high_shelf"])
def test_let_in_wholly_it_is_the_whole_band(kind: str) -> None:
    stage = eq(kind=kind, range_db=-9.0, threshold_db=-80, ratio=100, q=2, hears="key")
    whole = band_sections(stage.bands[0].model_copy(update={"gain_db": -9.0}), RATE)
    for hz in (60.0, 500.0, 1000.0, 1600.0, 9000.0):
        sound = tone(hz, -20)
        found = gain_db(through(stage, sound, square(0)), sound)
        assert found == pytest.approx(float(response_db(whole, np.array([hz]), RATE)[0]), abs=0.05)


def test_by_itself_it_hears_its_own_band_alone() -> None:
    stage = eq(range_db=-12.0, threshold_db=-30, ratio=10, q=4)
    loud_elsewhere = tone(60, -3)
    assert abs(gain_db(through(stage, loud_elsewhere), loud_elsewhere)) < 0.1
    in_band = tone(HZ, -10)
    assert gain_db(through(stage, in_band), in_band) < -8


def test_attack_and_release_are_the_times_to_63_per_cent() -> None:
    stage = eq(range_db=-20, threshold_db=-40, ratio=2, attack_ms=20, release_ms=100, hears="key")
    key = np.concatenate([square(-80), square(-20), square(-80)])
    process: Any = processor_of(stage, RATE)
    sound = np.zeros(len(key), np.float32)
    _, (moves,) = process.run_moved(sound, process.at_rest(1), key)
    top = -float(moves[2 * RATE - 1])
    assert top == pytest.approx(10, abs=0.1)
    up = np.flatnonzero(-moves[RATE:] >= 0.632 * top)[0] / RATE
    down = np.flatnonzero(-moves[2 * RATE :] <= 0.368 * top)[0] / RATE
    assert up == pytest.approx(0.020, rel=0.05)
    assert down == pytest.approx(0.100, rel=0.05)


def test_blocks_join_and_both_sides_move_together() -> None:
    rng = np.random.default_rng(3)
    sound = (rng.standard_normal((RATE, 2)) * [0.02, 0.5]).astype(np.float32)
    stage = Equaliser(
        output_db=2.0,
        bands=(
            Band(id="b1", on=True, kind="low_shelf", frequency_hz=90, gain_db=3, range_db=-6),
            Band(id="b2", on=True, frequency_hz=HZ, range_db=9, threshold_db=-30),
        ),
    )
    process: Any = processor_of(stage, RATE)
    whole = process.run(sound, process.at_rest(2))
    state = process.at_rest(2)
    pieces = [process.run(part, state) for part in np.array_split(sound, 37)]
    assert np.abs(np.concatenate(pieces) - whole).max() < 1e-6
    _, moves = process.run_moved(sound, process.at_rest(2))
    assert len(moves) == 2
    assert moves[1].max() > 3


def test_a_key_is_listened_to_only_where_a_band_moves_with_it() -> None:
    assert eq(gain_db=3).listens is None
    assert eq(range_db=3).listens is None
    assert eq(range_db=3, hears="key").listens is not None
    assert Equaliser(key={"source": "snare_top"}).listens is not None


@pytest.mark.parametrize("range_db", [-12.0, 12.0])
def test_whatever_goes_in_what_comes_out_is_a_number(range_db: float) -> None:
    rng = np.random.default_rng(4)
    stage = eq(range_db=range_db, threshold_db=-60, ratio=100, attack_ms=0.05, q=16)
    for sound in (np.zeros(RATE), rng.standard_normal(RATE) * 30, np.eye(1, RATE)[0], [0.5]):
        out = through(stage, np.asarray(sound, np.float32))
        assert np.isfinite(out).all()
        assert len(out) == len(sound)
