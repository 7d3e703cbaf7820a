"""Power behind filters, and fewer samples a second, against slow references."""

import numpy as np
import pytest
from scipy import signal

from arkund.core.measure.decimate import decimated
from arkund.core.measure.lanes import LANES, powers

RATE = 48000


@pytest.mark.parametrize("steps", [0, 1, LANES - 1, LANES + 1, 450])
@pytest.mark.parametrize("step", [48, 147, 4410])
def test_powers_are_those_of_one_filter_from_the_first_sample_on(steps: int, step: int) -> None:
    steps = min(steps, 10 * RATE // step)
    # A loud burst, silence a sixteenth of the way on, then little: stretches must not lose what
    # rings into them.
    sound = np.random.default_rng(1).standard_normal(steps * step + step // 2).astype(np.float32)
    sound *= np.where(np.arange(len(sound)) % 9000 < 300, 1.0, 1e-4).astype(np.float32)
    sections = [
        np.concatenate(
            [
                signal.butter(2, low, "highpass", fs=RATE, output="sos"),
                signal.butter(2, high, "lowpass", fs=RATE, output="sos"),
            ]
        )
        for low, high in ((40, 120), (1200, 4500))
    ]
    found = powers(sound, RATE, np.delete(sections, 3, axis=2), step)
    for column, sos in enumerate(sections):
        passed = signal.sosfilt(sos, sound.astype(np.float64))[: steps * step]
        wanted = np.mean(np.square(passed.reshape(steps, step)), axis=1)
        assert found[:, column] == pytest.approx(wanted, rel=1e-6, abs=1e-20)


@pytest.mark.parametrize("step", [2, 4, 5])
@pytest.mark.parametrize("frames", [3, 1000, 40003])
def test_fewer_samples_by_the_definition_of_a_filter(step: int, frames: int) -> None:
    sound = np.random.default_rng(frames).standard_normal(frames).astype(np.float32)
    taps = signal.firwin(8 * step + 1, 0.7 / step)
    wanted = np.convolve(sound.astype(np.float64), taps)[4 * step :][:frames:step]
    assert decimated(sound, step) == pytest.approx(wanted, abs=2e-6)


def test_fewer_samples_keep_what_is_low_and_nothing_that_folds_onto_it() -> None:
    at = np.arange(RATE) / RATE
    for hz, gain in ((1000.0, 1.0), (2000.0, 1.0), (8500.0, 0.0), (11000.0, 0.0)):
        left = decimated(np.sin(2 * np.pi * hz * at).astype(np.float32), 4)[100:-100]
        # In time with the sound: what is left is the tone at every fourth sample.
        assert left == pytest.approx(gain * np.sin(2 * np.pi * hz * at[::4])[100:-100], abs=0.02)
