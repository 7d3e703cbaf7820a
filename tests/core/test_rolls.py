"""Buzz rolls: sound that stays up where a single hit would have died away."""

import numpy as np
import pytest
from numpy.typing import NDArray

from arkund.core.hits.choose.rolls import (
    find_buzzes,
    rest_of_rolls,
    runs_of_singles,
    with_rolls,
)
from arkund.core.hits.hear.novelty import band_energy
from arkund.core.hits.hit import Hit

RATE = 48000
SINGLE = [0.5, 1.5, 2.5, 3.5, 6.5, 7.5]
BUZZ = (4.5, 5.4)


def _sound(
    times: list[float], level: float, decay_s: float = 0.035, rate: int = RATE
) -> NDArray[np.float32]:
    rng = np.random.default_rng(3)
    out = np.zeros(round((max(times) + 2) * rate))
    ring = np.arange(rate) / rate
    for at in times:
        start = round(at * rate)
        out[start : start + rate] += rng.standard_normal(rate) * np.exp(-ring / decay_s) * level
    return (out + 1e-5 * rng.standard_normal(len(out))).astype(np.float32)


@pytest.mark.parametrize(("rate", "later_s"), [(RATE, 0.0), (44_100, 40.0)])
def test_a_buzz_is_found_from_beginning_to_end(rate: int, later_s: float) -> None:
    """At 44.1 kHz as well, where a frame is not quite a millisecond, and far into the song."""
    buzz = list(np.arange(*BUZZ, 0.026) + later_s)
    single = [s + later_s for s in SINGLE]
    ear = _sound(single, 0.2, rate=rate)
    roll = _sound(buzz, 0.08, rate=rate)
    ear[: len(roll)] += roll
    found = find_buzzes(band_energy(ear, rate), band_energy(0.2 * ear, rate), single)
    assert len(found) == 1
    times = found[0].times_s
    assert abs(times[0] - BUZZ[0] - later_s) < 0.03
    assert abs(times[-1] - buzz[-1]) < 0.03
    assert np.diff(times).max() <= 0.12
    assert max(found[0].levels_db) < 0


def test_single_hits_and_a_ringing_cymbal_are_no_buzz() -> None:
    ear = _sound(SINGLE, 0.2)
    assert find_buzzes(band_energy(ear, RATE), band_energy(ear, RATE), SINGLE) == []
    crash = np.zeros_like(ear)
    one = _sound([4.5], 0.05, decay_s=1.0)
    crash[: len(one)] += one
    heard = find_buzzes(
        band_energy(ear + crash, RATE), band_energy(0.1 * ear + crash, RATE), SINGLE
    )
    assert heard == []
    assert find_buzzes(band_energy(ear, RATE), None, SINGLE[:2]) == []


@pytest.mark.parametrize(
    ("begins", "is_roll"),
    [
        ((), True),
        (("snare",), True),
        (("tom_1",), False),
        (("tom_1", "snare"), True),
        (("kick",), True),
    ],
)
def test_what_a_tom_stirs_in_the_snare_s_mic_is_no_roll(
    begins: tuple[str, ...], is_roll: bool
) -> None:
    """Where a tom is hit, and the snare is not, what stays up is the tom's ring and the wires."""
    ear = _sound(SINGLE, 0.2)
    buzz = _sound(list(np.arange(*BUZZ, 0.026)), 0.08)
    ear[: len(buzz)] += buzz
    hits = [Hit(f"s{t}", "snare", t, 110, "accent", 1.0, 0.0) for t in SINGLE]
    hits += [Hit(f"{p}!", p, BUZZ[0] + 0.005, 90, "accent", 1.0, 0.0) for p in begins]
    out = with_rolls(
        hits, {"snare": band_energy(ear, RATE)}, band_energy(0.2 * ear, RATE), ["snare"]
    )
    assert any(h.kind == "roll" for h in out) == is_roll


def test_both_hands_are_needed_for_close_hits() -> None:
    close = list(2 + 0.07 * np.arange(6))
    assert runs_of_singles([0.5, 1.0, *close, 4.0]) == [(close[0], close[-1])]
    assert runs_of_singles([0.5, 0.6, 0.7]) == []


def test_a_roll_of_singles_goes_on_where_its_step_says() -> None:
    step = np.arange(10) * 0.07
    swell = np.array([0.2, 0.1, 0.3, 0.9, 0.9, 0.2, 0.9, 0.9, 0.9, 0.9])
    between = np.array([0.035, 0.245])
    times = np.concatenate([1 + step, 1 + between, [0.96, 1.9]])
    share = np.concatenate([swell, [0.3, 0.3], [0.01, 0.4]])
    kept = np.flatnonzero(share > 0.5).tolist()
    assert rest_of_rolls(times, share, kept) == list(range(10))


def test_hits_further_apart_are_no_roll() -> None:
    times = np.concatenate([1 + np.arange(8) * 0.12, [0.88, 1.96]])
    share = np.concatenate([np.full(8, 0.9), [0.4, 0.4]])
    assert rest_of_rolls(times, share, list(range(8))) == list(range(8))
    few = np.concatenate([1 + np.arange(4) * 0.07, [0.93]])
    assert rest_of_rolls(few, np.array([0.9] * 4 + [0.4]), list(range(4))) == list(range(4))
