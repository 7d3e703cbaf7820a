"""Shifts solved together, the centre of a piece, and what two mics make of one sound."""

from dataclasses import replace

import numpy as np
import pytest

from arkund.core.align.bodies import offsets
from arkund.core.align.pairs import Pair
from arkund.core.align.solving import Solution, centre_of, solve_shifts
from arkund.core.align.sums import notches_hz, sums_of

ARRIVES = {
    "kick_in": 100.0,
    "kick_out": 157.0,
    "snare_top": 80.0,
    "snare_bottom": 92.5,
    "overhead_l": 300.0,
    "overhead_r": 300.0,
}
OVERHEADS = {"overhead_l": 0.0, "overhead_r": 0.0}
CLOSE = ("kick_in", "kick_out", "snare_top", "snare_bottom")


def _pair(piece: str, mic: str, reference: str, off: float = 0.0, sure: bool = True) -> Pair:
    delay = ARRIVES[mic] - ARRIVES[reference] + off
    return Pair(piece, mic, reference, delay, 1, 0.0, 0.0, 0.0, 0.9 if sure else 0.4, sure, 40)


def _kit() -> list[Pair]:
    pairs = [
        _pair("kick", "kick_out", "kick_in"),
        _pair("snare", "snare_bottom", "snare_top"),
    ]
    for over in OVERHEADS:
        pairs += [_pair(mic.split("_")[0], mic, over) for mic in CLOSE]
    return pairs


def _solved(pairs: list[Pair], free: tuple[str, ...], held: dict[str, float]) -> Solution:
    """With the mics of each piece settled first."""
    pieces: dict[str, list[str]] = {}
    for mic in free:
        pieces.setdefault(mic.split("_")[0], []).append(mic)
    return solve_shifts(pairs, free, held, offsets(pairs, pieces, 48_000))


def test_where_all_agree_nothing_is_left() -> None:
    found = _solved(_kit(), CLOSE, OVERHEADS)
    assert found.shifts == pytest.approx(
        {"kick_in": 200, "kick_out": 143, "snare_top": 220, "snare_bottom": 207.5}, abs=0.01
    )
    assert max(abs(r.left_samples) for r in found.residuals) <= 0.02


def test_mics_of_one_drum_stay_together_whatever_overheads_say_of_either() -> None:
    """The bottom of a snare seems a metre nearer to the overheads, the outside of a kick is not sure."""
    pairs = [
        _pair("snare", "snare_top", "overhead_l"),
        _pair("snare", "snare_bottom", "overhead_l", off=165.0),
        _pair("snare", "snare_bottom", "snare_top"),
        _pair("kick", "kick_in", "overhead_l"),
        _pair("kick", "kick_out", "overhead_l", off=-136.0),
        _pair("kick", "kick_out", "kick_in", sure=False),
    ]
    shifts = _solved(pairs, CLOSE, OVERHEADS).shifts
    assert shifts["snare_top"] - shifts["snare_bottom"] == pytest.approx(12.5)
    assert shifts["kick_in"] == shifts["kick_out"]


def test_a_gap_that_no_drum_is_wide_enough_for_is_not_believed() -> None:
    pairs = [
        _pair("snare", "snare_bottom", "snare_top", off=-165.0),
        _pair("kick", "kick_out", "kick_in", off=300.0),
        _pair("tom_1", "snare_top", "snare_bottom"),
    ]
    pieces = {"snare": ["snare_top", "snare_bottom"], "kick": ["kick_in", "kick_out"], "hat": []}
    assert set(offsets(pairs, pieces, 48_000).values()) == {0.0}
    near = [_pair("kick", "kick_out", "kick_in")]
    assert offsets(near, pieces, 48_000)["kick_out"] == -57.0
    # Nor is one that each hit tells otherwise.
    scattered = [replace(near[0], spread_samples=8.4)]
    assert offsets(scattered, pieces, 48_000)["kick_out"] == 0.0
    assert offsets(scattered, pieces, 96_000)["kick_out"] == -57.0


def test_one_wrong_pair_bends_little_and_keeps_its_residual() -> None:
    pairs = [p for p in _kit() if (p.mic, p.reference) != ("kick_out", "overhead_r")]
    pairs.append(_pair("kick", "kick_out", "overhead_r", off=400.0))
    found = _solved(pairs, CLOSE, OVERHEADS)
    assert found.shifts["kick_out"] == pytest.approx(143, abs=2)
    assert found.shifts["kick_in"] == pytest.approx(200, abs=2)
    worst = max(found.residuals, key=lambda r: abs(r.left_samples))
    assert (worst.mic, worst.reference) == ("kick_out", "overhead_r")
    assert worst.left_samples == pytest.approx(400, abs=2)


def test_a_piece_between_two_overheads_goes_to_their_middle() -> None:
    pairs = [
        _pair("snare", "snare_top", "overhead_l", off=-10.0),
        _pair("snare", "snare_top", "overhead_r", off=10.0),
        _pair("snare", "snare_bottom", "snare_top"),
    ]
    found = _solved(pairs, ("snare_top", "snare_bottom"), OVERHEADS)
    assert found.shifts["snare_top"] == pytest.approx(220, abs=0.1)
    # Its second mic follows, though no overhead was measured with it.
    assert found.shifts["snare_top"] - found.shifts["snare_bottom"] == pytest.approx(12.5, abs=0.1)


def test_a_cymbal_goes_with_the_overhead_that_it_is_nearer_to() -> None:
    pairs = [
        Pair("hat", "hat", over, delay, 1, 0, 0, 0, 0.9, True, 40)
        for over, delay in (("overhead_l", -80.0), ("overhead_r", -160.0))
    ]
    found = _solved(pairs, ("hat",), OVERHEADS)
    assert found.shifts == {"hat": 80.0}
    assert [r.left_samples for r in found.residuals] == [0.0, -80.0]


def test_doubtful_pairs_decide_only_where_there_are_no_others() -> None:
    pairs = [*_kit(), _pair("kick", "kick_in", "overhead_l", off=50.0, sure=False)]
    assert _solved(pairs, CLOSE, OVERHEADS).shifts["kick_in"] == pytest.approx(200, abs=0.01)
    alone = [_pair("kick", "kick_in", "overhead_l", off=50.0, sure=False)]
    found = _solved(alone, CLOSE, OVERHEADS)
    # Its second mic, with which nothing was measured, goes along.
    assert found.shifts == pytest.approx({"kick_in": 150, "kick_out": 150})


def test_a_mic_that_nothing_leads_to_has_no_shift() -> None:
    found = _solved([_pair("snare", "snare_bottom", "snare_top")], CLOSE, OVERHEADS)
    assert (found.shifts, found.residuals) == ({}, [])
    assert _solved([], (), {}).shifts == {}


def test_the_centre_is_the_difference_of_arrivals_as_shifted() -> None:
    pairs = [
        _pair("snare", "snare_top", "overhead_l"),
        _pair("snare", "snare_top", "overhead_r", off=-14.0),
    ]
    found = centre_of(pairs, "snare", "overhead", {})
    assert found is not None
    assert (found.early, found.late, found.samples) == ("overhead_l", "overhead_r", 14.0)
    moved = centre_of(pairs, "snare", "overhead", {"overhead_l": 20.0})
    assert moved is not None
    assert (moved.late, moved.samples) == ("overhead_l", 6.0)
    assert centre_of(pairs[:1], "snare", "overhead", {}) is None


def test_sums_against_added_sound() -> None:
    """By the closed form for the whole band of a noise burst and its late copy."""
    rng, rate = np.random.default_rng(5), 48000
    sound = np.zeros(rate, np.float32)
    times = [0.2, 0.5, 0.8]
    for t in times:
        at = round(t * rate)
        sound[at : at + 1500] = rng.standard_normal(1500) * np.exp(-np.arange(1500) / 300)
    late = np.roll(sound, 24)
    found = sums_of(sound, late, rate, times, 24.0)
    assert found is not None
    assert found.shifted == pytest.approx([3.01] * 3, abs=0.05)
    assert max(found.both) < -20
    for flip, got in ((1.0, found.recorded), (-1.0, found.flipped)):
        added = np.abs(np.fft.rfft(flip * sound + late)) ** 2
        apart = np.abs(np.fft.rfft(sound)) ** 2 + np.abs(np.fft.rfft(late)) ** 2
        hz = np.fft.rfftfreq(rate, 1 / rate)
        for (low, high), db in zip(((25, 120), (120, 500), (500, 2000)), got, strict=True):
            inside = (hz >= low) & (hz < high)
            wanted = 10 * np.log10(added[inside].sum() / apart[inside].sum())
            assert db == pytest.approx(wanted, abs=0.6)
    assert sums_of(sound * 0, late * 0, rate, times, 24.0) is None
    assert sums_of(sound, late, rate, [], 24.0) is None


def test_notches_lie_where_a_late_copy_cancels() -> None:
    assert notches_hz(24.0, 48000) == [1000.0, 3000.0, 5000.0, 7000.0]
    assert notches_hz(-24.0, 48000, -1) == [2000.0, 4000.0, 6000.0, 8000.0]
    assert notches_hz(2.0, 48000) == [12000.0]
    assert notches_hz(0.2, 48000) == []
