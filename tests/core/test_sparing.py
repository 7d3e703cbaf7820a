"""Shifts that make no sum thinner: by the sums themselves."""

import numpy as np
import pytest

from arkund.core.align.sparing import MOST_LOST_DB, Added, spared
from arkund.core.align.sums import BANDS_HZ, Together, sums_of

RATE, TIMES = 44100, [0.5 + 0.4 * n for n in range(8)]


def _hits(seed: int, late: int = 0, low: float = 500.0, high: float = 2000.0) -> np.ndarray:
    """Bursts of noise between two frequencies, ``late`` samples after `TIMES`."""
    rng, out = np.random.default_rng(seed), np.zeros(4 * RATE)
    hz = np.fft.rfftfreq(4096, 1 / RATE)
    for time in TIMES:
        spectrum = rng.standard_normal(len(hz)) + 1j * rng.standard_normal(len(hz))
        spectrum[(hz < low) | (hz > high)] = 0
        burst = np.fft.irfft(spectrum) * np.exp(-np.arange(4096) / 800)
        at = round(time * RATE) + late
        out[at : at + 4096] += burst
    return out.astype(np.float32)


def _added(piece: str, mic: str, reference: str, delay: int, seed: int, **band: float) -> Added:
    both = Together(_hits(seed, 100 + delay, **band), _hits(seed, 100, **band), RATE, TIMES)
    return Added(piece, mic, reference, float(delay), both)


def test_spectra_taken_once_say_what_the_sums_of_samples_say() -> None:
    one, other = _hits(1, 9), _hits(1)
    found = sums_of(one, other, RATE, TIMES, -9.0)
    assert found is not None
    closed = Together(_hits(1), other, RATE, TIMES)
    np.testing.assert_allclose(found.shifted[2], closed.levels_db()[2], atol=0.05)
    assert found.shifted[2] == pytest.approx(3.01, abs=0.05)
    assert found.both[2] < -20
    assert len(found.recorded) == len(BANDS_HZ)
    for args in (([],), (TIMES,)):
        with pytest.raises(ValueError, match="hits"):
            Together(np.zeros(len(one), np.float32), np.zeros(len(one), np.float32), RATE, *args)


def test_a_mic_that_one_place_does_not_serve_stays_where_it_costs_least() -> None:
    """The hat hears one overhead 8 samples late and the other 8 early: either is lost elsewhere."""
    sums = [_added("hat", "hat", "overhead_l", 8, 2), _added("hat", "hat", "overhead_r", -8, 3)]
    still = {"overhead_l": 0.0, "overhead_r": 0.0}
    assert max(a.lost_db(-8.0) for a in sums) > MOST_LOST_DB
    assert spared({"hat": -8.0}, still, sums, {}) == {"hat": 0.0}


def test_what_only_gains_is_moved() -> None:
    low = {"low": 30.0, "high": 110.0}
    sums = [
        _added("kick", "kick_in", "overhead_l", -150, 4, **low),
        _added("kick", "kick_in", "overhead_r", -151, 5, **low),
        _added("hat", "hat", "overhead_l", 5, 6),
    ]
    still = dict.fromkeys(("overhead_l", "overhead_r"), 0.0)
    shifts = {"kick_in": 150.5, "hat": -5.0}
    assert spared(shifts, still, sums, {}) == shifts


def test_a_pair_that_is_to_be_flipped_is_judged_flipped() -> None:
    upside_down = Together(-_hits(7, 109), _hits(7, 100), RATE, TIMES)
    wrong, right = (Added("hat", "hat", "overhead_l", 9.0, upside_down, s) for s in (1, -1))
    still = {"overhead_l": 0.0}
    assert spared({"hat": -9.0}, still, [right], {}) == {"hat": -9.0}
    assert spared({"hat": -9.0}, still, [wrong], {}) != {"hat": -9.0}


def test_a_drum_is_spared_with_all_its_mics_or_not_at_all() -> None:
    """One mic of a tom would lose a sum where it is brought to: the other comes back with it."""
    sums = [_added("hat", "tom_1", "overhead_l", 8, 2), _added("hat", "tom_1", "overhead_r", -8, 3)]
    still = {"overhead_l": 0.0, "overhead_r": 0.0}
    bodies = {"tom_1": "tom_1", "tom_1_bottom": "tom_1"}
    found = spared({"tom_1": -8.0, "tom_1_bottom": -20.0}, still, sums, bodies)
    assert found == {"tom_1": 0.0, "tom_1_bottom": -12.0}


def test_what_is_moved_besides_counts_where_it_stands() -> None:
    sums = [_added("kick", "kick_in", "overhead_l", -150, 4, low=30.0, high=110.0)]
    assert spared({"kick_in": 170.0}, {"overhead_l": 20.0}, sums, {}) == {"kick_in": 170.0}
    assert spared({"kick_in": 370.0}, {"overhead_l": 20.0}, sums, {}) != {"kick_in": 370.0}
