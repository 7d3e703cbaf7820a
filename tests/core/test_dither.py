"""Steps of 24 bits: the dither's noise by its definition, and the bytes that stand in a file."""

import numpy as np

from arkund.core.render.dither import dithered, packed

STEP = 2.0**-23
FRAMES = 1 << 16


def _error(sound: np.ndarray, place: int = 0, seed: int = 7) -> np.ndarray:
    """What dithering does to a sound, in steps."""
    steps = np.empty(len(sound), np.int32)
    dithered(sound, place, np.uint32(seed), steps)
    return steps - sound.astype(np.float64) / STEP


def test_the_error_does_not_depend_on_the_sound_and_is_white() -> None:
    rng = np.random.default_rng(3)
    for level in (0.3 * STEP, 40 * STEP, 0.1):
        error = _error((level * rng.standard_normal(FRAMES)).astype(np.float32))
        # Rounding adds a variance of 1/12, two even numbers 1/12 each.
        assert abs(error.mean()) < 0.01
        assert abs(error.std() - 0.5) < 0.01
        power = np.abs(np.fft.rfft(error)[1:]) ** 2
        bands = power[: len(power) // 8 * 8].reshape(8, -1).mean(axis=1)
        assert np.ptp(bands) / bands.mean() < 0.15
        beside = [np.corrcoef(error[:-lag], error[lag:])[0, 1] for lag in (1, 2, 3, 64)]
        assert max(map(abs, beside)) < 0.02


def test_files_and_places_have_noise_of_their_own_and_blocks_join() -> None:
    sound = np.full(FRAMES, 0.2, np.float32)
    one = _error(sound)
    assert abs(np.corrcoef(one, _error(sound, seed=8))[0, 1]) < 0.02
    np.testing.assert_array_equal(one[1000:], _error(sound[1000:], place=1000))


def test_silence_stays_silent_and_full_scale_is_counted_and_held() -> None:
    steps = np.empty(6, np.int32)
    sound = np.array([0, 1.5, -1.5, 1.0, 0, -0.5], np.float32)
    assert dithered(sound, 0, np.uint32(1), steps) == 2
    assert steps[0] == steps[4] == 0
    assert (steps[1], steps[2]) == (8388607, -8388608)


def test_bytes_are_the_lowest_first() -> None:
    steps = np.array([1, -2, 8388607, -8388608, 0x123456], np.int32)
    as_written = b"".join(int(s).to_bytes(3, "little", signed=True) for s in steps)
    assert packed(steps).tobytes() == as_written
