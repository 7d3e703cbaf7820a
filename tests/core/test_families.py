"""The compressor's families by their stated behaviour: one static curve, four ways of following it."""

from itertools import pairwise
from typing import get_args

import numpy as np
import pytest

from arkund.core.process.compressor import Compressor
from arkund.core.process.stage import processor_of
from arkund.core.shape import compressor
from arkund.core.shape.compressor import EASE_LONG, FAMILIES, GRIP_FAST, GRIP_LONG, Family

RATE = 48_000
CURVE = {"threshold_db": -30.0, "ratio": 4.0, "knee_db": 0.0}


def part(family: str, **more: float) -> Compressor:
    return Compressor(**{**CURVE, "attack_ms": 1.0, "release_ms": 100.0, "family": family, **more})


def followed(stage: Compressor, key: np.ndarray, sound: np.ndarray | None = None) -> np.ndarray:
    """The reduction in dB sample by sample, read from what becomes of a steady sound."""
    steady = np.full(len(key), 0.5, np.float32) if sound is None else sound
    process = processor_of(stage, RATE)
    out = process.run(steady, process.at_rest(1), key.astype(np.float32))
    return np.asarray(-20 * np.log10(np.maximum(np.abs(out), 1e-9) / np.abs(steady)))


def level(db: float, seconds: float) -> np.ndarray:
    return np.full(round(seconds * RATE), 10 ** (db / 20))


def released(family: str, held_s: float, **more: float) -> np.ndarray:
    """How the reduction falls, 1 at first, after a key that was held so long."""
    reduction = followed(part(family, **more), np.concatenate([level(-6, held_s), level(-90, 2.0)]))
    after = reduction[round(held_s * RATE) :]
    return np.asarray(after / after[0])


def at(curve: np.ndarray, seconds: float) -> float:
    return float(curve[round(seconds * RATE)])


def time_to(curve: np.ndarray, share: float) -> float:
    return float(np.flatnonzero(curve <= share)[0] / RATE)


def test_the_families_are_the_sheet_s() -> None:
    assert get_args(Family) == FAMILIES
    assert Compressor.model_fields["family"].default == "straight"


@pytest.mark.parametrize("family", FAMILIES)
@pytest.mark.parametrize("level_db", [-40.0, -26.0, -18.0, -3.0])
def test_all_come_to_the_same_static_curve(family: str, level_db: float) -> None:
    """Within 0.3 dB; *ease* hears power, so that a sine reads its peak and a steady value 3 dB more."""
    stage = part(family, attack_ms=5.0)
    heard = level_db - (3.01 if family == "ease" else 0.0)
    found = followed(stage, level(heard, 2.0))[-1]
    wanted = float(compressor.static_reduction_db(np.array([level_db]), stage.setup)[0])
    assert found == pytest.approx(wanted, abs=0.3)


@pytest.mark.parametrize("family", ["straight", "grip", "slam"])
def test_attack_is_the_time_to_63_per_cent(family: str) -> None:
    reduction = followed(part(family, attack_ms=20.0), level(-6, 1.0))
    assert np.flatnonzero(reduction >= 0.632 * 18)[0] / RATE == pytest.approx(0.020, rel=0.05)


def test_straight_lets_go_in_its_release_whatever_was_held() -> None:
    for held_s in (0.02, 1.0):
        assert time_to(released("straight", held_s), np.exp(-1)) == pytest.approx(0.1, rel=0.05)


def test_grip_lets_a_peak_go_sooner_than_what_lasts() -> None:
    peak = released("grip", 0.005)
    lasting = released("grip", 3.0)
    assert time_to(peak, np.exp(-1)) == pytest.approx(GRIP_FAST * 0.1, rel=0.15)
    assert time_to(lasting, np.exp(-1)) == pytest.approx(GRIP_LONG * 0.1, rel=0.05)


def test_ease_lets_go_in_two_stages() -> None:
    fall = released("ease", 3.0)
    slow_s = EASE_LONG * 0.1
    # Half of it is gone well before the slow stage alone would let it; what is left is the slow one's.
    assert time_to(fall, 0.5) < 0.7 * slow_s * np.log(2)
    assert at(fall, 0.9) / at(fall, 0.4) == pytest.approx(np.exp(-0.5 / slow_s), rel=0.05)
    assert at(fall, 0.4) == pytest.approx(0.5 * np.exp(-0.4 / slow_s), rel=0.15)
    # The ripple of waves is not followed: a low sine is held as steadily as a steady value.
    t = np.arange(2 * RATE) / RATE
    sine = 0.5 * np.sin(2 * np.pi * 60 * t)
    ripple = {f: np.ptp(followed(part(f), sine)[RATE:]) for f in ("straight", "ease")}
    assert ripple["ease"] < 0.5 * ripple["straight"]


def test_slam_lets_go_the_faster_the_more_it_takes() -> None:
    deep = released("slam", 1.0)  # from 18 dB
    assert time_to(deep, 0.5) < 0.4 * time_to(released("straight", 1.0), 0.5)

    def harmonics(family: str, level_db: float) -> float:
        t = np.arange(RATE) / RATE
        tone = 10 ** (level_db / 20) * np.sin(2 * np.pi * 100 * t).astype(np.float32)
        process = processor_of(part(family, release_ms=60.0), RATE)
        out = process.run(tone.astype(np.float32), process.at_rest(1))[RATE // 2 :]
        power = np.abs(np.fft.rfft(out * np.hanning(len(out)))) ** 2
        first = power[45:56].sum()
        return float(np.sqrt(power[95:].sum() / first))

    assert harmonics("slam", -6) > 1.5 * harmonics("slam", -24)
    assert harmonics("slam", -6) > 2 * harmonics("straight", -6)


@pytest.mark.parametrize("family", FAMILIES)
def test_pieces_join_and_what_comes_out_is_a_number(family: str) -> None:
    rng = np.random.default_rng(5)
    sound = (rng.standard_normal((RATE, 2)) * np.geomspace(0.01, 2, RATE)[:, None]).astype(
        np.float32
    )
    process = processor_of(part(family, lookahead_ms=2.0), RATE)
    whole = process.run(sound, process.at_rest(2))
    state = process.at_rest(2)
    edges = [0, 256, 1000, 1001, 20_480, RATE]
    pieces = [process.run(sound[a:b], state) for a, b in pairwise(edges)]
    assert np.isfinite(whole).all()
    assert np.abs(np.concatenate(pieces) - whole).max() < 1e-5


@pytest.mark.parametrize("family", FAMILIES)
def test_what_it_remembers_is_said(family: str) -> None:
    """After its memory a loud beginning is forgotten."""
    stage = part(family, release_ms=50.0)
    process = processor_of(stage, RATE)
    quiet = np.full(process.memory + RATE // 10, 1e-3, np.float32)
    loud = np.concatenate([np.full(RATE, 1.0, np.float32), quiet])
    out = process.run(loud, process.at_rest(1))
    assert np.abs(out[-100:] - 1e-3).max() < 1e-7


@pytest.mark.parametrize("family", ["straight", "grip", "slam"])
def test_a_power_detector_hears_a_sine_as_its_peak_and_no_single_wave(family: str) -> None:
    """Within 0.3 dB of the static curve at the sine's peak; a click of a tenth of its time hardly counts."""
    stage = part(family, attack_ms=5.0, release_ms=300.0, detector="power", ratio=2.0)
    sine = 10 ** (-6 / 20) * np.sin(2 * np.pi * 1000 * np.arange(2 * RATE) / RATE)
    found = followed(stage, sine)[-RATE // 10 :].mean()
    assert found == pytest.approx(12.0, abs=0.3)
    click = np.concatenate([level(-6, 0.001), level(-90, 0.2)])
    peak, power = (
        followed(part(family, attack_ms=0.1, detector=how, ratio=2.0), click).max()
        for how in ("peak", "power")
    )
    assert power < 0.75 * peak


@pytest.mark.parametrize(("link", "quiet_db"), [(1.0, 12.0), (0.75, 6.0), (0.5, 0.0), (0.0, 0.0)])
def test_sides_are_turned_down_together_as_far_as_they_are_linked(
    link: float, quiet_db: float
) -> None:
    """One side 16 dB over the threshold at 4:1 (12 dB of reduction), the other 16 dB under it: heard halfway it
    lies at the threshold, heard three quarters of the way 8 dB over it."""
    stage = part("straight", link=link, knee_db=0.0)
    sound = np.stack([level(-14, 1.0), level(-46, 1.0)], axis=1).astype(np.float32)
    process = processor_of(stage, RATE)
    out, trace = process.run_traced(sound, process.at_rest(2))
    down = -20 * np.log10(np.abs(out[-1]) / np.abs(sound[-1]))
    assert down[0] == pytest.approx(12.0, abs=0.1)
    assert down[1] == pytest.approx(quiet_db, abs=0.1)
    assert trace[-1] == pytest.approx(12.0, abs=0.1)
