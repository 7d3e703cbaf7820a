"""Drums against a bed and a reference, by signals whose figures are known."""

import numpy as np
import pytest

from arkund.core.measure.in_the_song import (
    KICK_HZ,
    KICK_S,
    OCTAVES_HZ,
    SNARE_HZ,
    SNARE_S,
    apart_from_db,
    covered,
    over_bed_lu,
)

RATE = 44_100
TIMES = [0.5 + 0.5 * n for n in range(10)]
RNG = np.random.default_rng(5)


def both(sound: np.ndarray) -> np.ndarray:
    return np.stack([sound, sound], axis=1).astype(np.float32)


def tone(hz: float, level: float, seconds: float = 6.0) -> np.ndarray:
    return level * np.sin(2 * np.pi * hz * np.arange(round(seconds * RATE)) / RATE)


def hits(hz: float, level: float = 0.5) -> np.ndarray:
    """A steady tone of a tenth of a second at each time."""
    out = np.zeros(6 * RATE)
    for at in TIMES:
        first = round(at * RATE)
        out[first : first + RATE // 10] = tone(hz, level, 0.1)
    return out


def test_loudness_over_the_bed_is_the_difference_of_both() -> None:
    noise = RNG.standard_normal((5 * RATE, 2)).astype(np.float32) * 0.1
    assert over_bed_lu(noise, noise * np.float32(0.5), RATE) == pytest.approx(6.02, abs=0.05)


@pytest.mark.parametrize(
    ("band", "length", "hz"), [(KICK_HZ, KICK_S, 70.0), (SNARE_HZ, SNARE_S, 900.0)]
)
def test_a_drum_in_its_band_is_measured_against_the_bed_there(
    band: tuple[float, float], length: float, hz: float
) -> None:
    drum = both(hits(hz))
    softer = covered(drum, both(tone(hz * 1.03, 0.25)), RATE, TIMES, band, length)
    assert softer is not None
    assert softer.over_bed_db == pytest.approx(6.0, abs=1.5)
    assert (softer.hits, softer.share) == (10, 0.0)
    # What lies outside of the band covers nothing.
    elsewhere = covered(drum, both(tone(12_000, 1.0)), RATE, TIMES, band, length)
    assert elsewhere is not None
    assert elsewhere.over_bed_db > 20


def test_a_bass_that_plays_under_some_hits_covers_those() -> None:
    bass = tone(70.0, 1.0)
    bass[: round(3.25 * RATE)] = 0  # silent under the first six
    found = covered(both(hits(70.0)), both(bass), RATE, TIMES, KICK_HZ, KICK_S)
    assert found is not None
    assert found.share == pytest.approx(0.4)
    assert found.covered_by_db == pytest.approx(6.0, abs=1.5)


def test_a_drum_that_is_hardly_hit_is_not_measured() -> None:
    sound = both(hits(70.0))
    assert covered(sound, sound, RATE, TIMES[:3], KICK_HZ, KICK_S) is None


def test_the_balance_against_a_reference_is_by_octave_at_equal_loudness() -> None:
    noise = RNG.standard_normal((8 * RATE, 2)) * 0.05
    spectrum = np.fft.rfft(noise, axis=0)
    hz = np.fft.rfftfreq(len(noise), 1 / RATE)
    spectrum[(hz > 180) & (hz < 350)] *= 2
    darker = np.fft.irfft(spectrum, len(noise), axis=0)
    apart = apart_from_db(darker.astype(np.float32) * np.float32(3), noise.astype(np.float32), RATE)
    others = np.delete(apart, OCTAVES_HZ.index(250.0))
    assert apart[OCTAVES_HZ.index(250.0)] == pytest.approx(6, abs=0.4)
    assert np.abs(others).max() < 0.6
