"""Outboard: what two pings tell of a box, and a return that is back in place."""

import numpy as np
import pytest
from numpy.typing import NDArray
from scipy import signal

from arkund.core.errors import ArkundError
from arkund.core.exchange import outboard
from arkund.core.simulate.box import Box, through

RATE = 48000
PLAIN = Box(late_samples=0, gain_db=0.0, noise_dbfs=-300.0, drive=0.0, top_hz=0.0)


@pytest.fixture(scope="module")
def sound() -> NDArray[np.float32]:
    """Six seconds of hits under 12 kHz, stereo: what a resampler's edge takes is no part of this."""
    time, rng = np.arange(6 * RATE) / RATE, np.random.default_rng(5)
    body = 0.4 * np.sin(2 * np.pi * 180 * time) * np.exp(-(time % 0.5) / 0.1)
    wires = 0.2 * rng.standard_normal(len(time)) * np.exp(-(time % 0.25) / 0.03)
    low = signal.butter(8, 12000, fs=RATE, output="sos")
    sides = [signal.sosfiltfilt(low, body + share * wires) for share in (1.0, 0.4)]
    return np.stack(sides, axis=1).astype(np.float32)


def _back(box: Box, sound: NDArray[np.float32]) -> tuple[outboard.Returned, NDArray[np.float32]]:
    written, gain_db = outboard.sent(sound, RATE)
    returned = through(box, written, RATE)
    found = outboard.measured(returned, len(sound), RATE)
    return found, outboard.brought_back(returned, found, len(sound), RATE, gain_db)


def _rms_db(sound: NDArray[np.float32]) -> float:
    return float(10 * np.log10(np.mean(np.asarray(sound, dtype=np.float64) ** 2) + 1e-30))


def test_a_wire_comes_back_as_it_was_sent(sound: NDArray[np.float32]) -> None:
    found, back = _back(PLAIN, sound)
    assert (found.late_samples, found.gain_db, found.polarity, found.drift_ppm) == (0, 0, 1, 0)
    assert _rms_db(back - sound) < -120


@pytest.mark.parametrize(
    "box",
    [
        Box(drive=0, top_hz=0, late_samples=1, gain_db=-6.0, noise_dbfs=-90),
        Box(drive=0, top_hz=0, late_samples=4801, gain_db=4.0, polarity=-1, noise_dbfs=-90),
        Box(drive=0, top_hz=0, late_samples=60000, noise_dbfs=-90),
    ],
)
def test_lateness_gain_and_polarity_are_found_and_undone(
    box: Box, sound: NDArray[np.float32]
) -> None:
    found, back = _back(box, sound)
    assert found.late_samples == pytest.approx(box.late_samples, abs=0.02)
    assert found.gain_db == pytest.approx(box.gain_db, abs=0.01)
    assert found.polarity == box.polarity
    assert found.noise_dbfs == pytest.approx(-90, abs=0.5)
    assert _rms_db(back - sound) < box.noise_dbfs - box.gain_db + 1


def test_noise_twenty_db_under_the_ping_moves_it_by_less_than_a_sample(
    sound: NDArray[np.float32],
) -> None:
    # The ping's RMS is 3 dB under its peak.
    for seed in range(6):
        box = Box(noise_dbfs=outboard.PING_DBFS - 3 - 20, drive=0, top_hz=0, gain_db=0.0)
        written, _ = outboard.sent(sound, RATE)
        found = outboard.measured(through(box, written, RATE, seed), len(sound), RATE)
        assert abs(found.late_samples - box.late_samples) < 1.0
        assert abs(found.gain_db) < 0.1


@pytest.mark.parametrize("ppm", [50.0, -50.0, 8.0])
def test_a_clock_that_drifts_is_found_and_undone(ppm: float, sound: NDArray[np.float32]) -> None:
    box = Box(drift_ppm=ppm, drive=0, top_hz=0, noise_dbfs=-110)
    found, back = _back(box, sound)
    assert found.drift_ppm == pytest.approx(ppm, abs=0.5)
    assert found.late_samples == pytest.approx(box.late_samples, abs=0.05)
    assert _rms_db(back - sound) < -75


def test_what_is_left_is_the_boxs_colour(sound: NDArray[np.float32]) -> None:
    box = Box(late_samples=2222, gain_db=-3.0, polarity=-1, noise_dbfs=-90, drift_ppm=20, drive=1.5)
    colour = Box(0, 0.0, 1, -300.0, box.drive, box.top_hz)
    _, back = _back(box, sound)
    _, expected = _back(colour, sound)
    assert _rms_db(expected - sound) > -50
    assert _rms_db(back - expected) < -60


def test_loud_sound_is_lowered_to_be_written_and_raised_again(sound: NDArray[np.float32]) -> None:
    loud = 3 * sound
    written, gain_db = outboard.sent(loud, RATE)
    assert np.abs(written).max() == pytest.approx(10 ** (-1 / 20), abs=1e-3)
    assert gain_db == pytest.approx(-1 - 20 * np.log10(np.abs(loud).max()))
    _, back = _back(PLAIN, loud)
    assert _rms_db(back - loud) < -110


def test_clips_are_counted(sound: NDArray[np.float32]) -> None:
    written, _ = outboard.sent(sound, RATE)
    returned = np.clip(4 * written, -1, 1)
    assert outboard.measured(returned, len(sound), RATE).clipped_runs > 10
    assert outboard.measured(written, len(sound), RATE).clipped_runs == 0


def test_what_is_no_return_is_refused_with_what_to_do(sound: NDArray[np.float32]) -> None:
    written, _ = outboard.sent(sound, RATE)
    for returned, said in (
        (written[: len(sound)], "its end is missing"),
        (np.zeros_like(written), "is silent"),
        (
            np.pad(sound, ((0, len(written) - len(sound)), (0, 0))),
            "first ping is not in the return",
        ),
        (written[RATE:], "its end is missing|ping is not"),
    ):
        with pytest.raises(ArkundError, match=said):
            outboard.measured(returned, len(sound), RATE)
