"""Tempo from taps."""

import numpy as np
import pytest

from arkund.core.timing.tapped import tapped_bpm


def test_one_late_tap_hardly_matters() -> None:
    times = 10 + 0.5 * np.arange(8.0)
    times[7] += 0.06
    assert tapped_bpm(times.tolist()) == pytest.approx(120, abs=2.0)
    assert 60 * 7 / (times[7] - times[0]) == pytest.approx(118.0, abs=0.1)  # first to last alone
    times[7] -= 0.06
    assert tapped_bpm(times.tolist()) == pytest.approx(120)


def test_taps_before_a_pause_are_forgotten() -> None:
    slow, quick = np.arange(6.0), 20 + 0.4 * np.arange(4.0)
    assert tapped_bpm([*slow, *quick]) == pytest.approx(150)
    assert tapped_bpm([*slow, *quick[:2]]) is None


@pytest.mark.parametrize(
    "times", [[], [1.0], [1.0, 1.5], [0, 0, 0, 0], [1, 1.01, 1.02, 1.03], [3, 2, 1]]
)
def test_too_few_or_impossible_taps_are_no_tempo(times: list[float]) -> None:
    assert tapped_bpm(times) is None
