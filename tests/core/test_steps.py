"""A compressor step by step: what is said of each control is what the sound does."""

import numpy as np
import pytest

from arkund.core.advise.dynamics.stages import typical_reduction_db
from arkund.core.advise.dynamics.steps import TARGETS_DB, TOO_STRONG_DB, Step, steps_of
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.compressor import Compressor
from arkund.core.process.stage import processor_of

RATE, GAP_S = 48_000, 0.4


def drum() -> tuple[np.ndarray, list[float], list[float]]:
    """Twelve hits and a ghost 20 dB softer between each two."""
    t = np.arange(round(GAP_S * RATE)) / RATE
    hit = np.minimum(t / 0.002, 1) * np.exp(-t / 0.05) * np.sin(2 * np.pi * 700 * t)
    sound = np.tile(np.concatenate([0.6 * hit, 0.06 * hit]), 12).astype(np.float32)
    return sound, [2 * n * GAP_S for n in range(12)], [(2 * n + 1) * GAP_S for n in range(12)]


def steps(stage: Compressor) -> dict[str, Step]:
    sound, times, ghosts = drum()
    return {step.name: step for step in steps_of(stage, sound, RATE, times, ghosts)}


STAGE = Compressor(threshold_db=-14, ratio=4, attack_ms=1, release_ms=60)


def test_every_control_has_its_step_in_the_order_of_work() -> None:
    assert list(steps(STAGE)) == [
        "threshold_db",
        "ratio",
        "knee_db",
        "attack_ms",
        "release_ms",
        "makeup_db",
    ]


def test_dialling_in_takes_off_what_it_says_and_back() -> None:
    sound, times, _ = drum()
    ways = steps(STAGE)["threshold_db"].ways
    for way, wanted in zip(ways, (TOO_STRONG_DB, *TARGETS_DB), strict=True):
        there = STAGE.model_copy(update=way.values)
        assert typical_reduction_db(sound, RATE, there, times) == pytest.approx(wanted, abs=0.4)


def test_ghosts_that_are_turned_down_are_counted() -> None:
    assert "0 of 12 ghosts" in steps(STAGE)["threshold_db"].said
    deep = STAGE.model_copy(update={"threshold_db": -40})
    assert "12 of 12 ghosts" in steps(deep)["threshold_db"].said


def test_loud_and_soft_hits_come_together_by_the_ratio() -> None:
    said = steps(STAGE.model_copy(update={"threshold_db": -60, "knee_db": 0}))["ratio"].said
    after = float(said.split(" are ")[1].split(" dB")[0])
    before = float(said.split("; ")[1].split(" dB")[0])
    assert before == pytest.approx(20, abs=0.2)
    assert after < before


@pytest.mark.parametrize("mix", [1.0, 0.6])
def test_makeup_that_is_offered_makes_it_as_loud_as_bypassed(mix: float) -> None:
    sound, _, _ = drum()
    stage = STAGE.model_copy(update={"mix": mix})
    way = steps(stage)["makeup_db"].ways[0]
    process = processor_of(stage.model_copy(update=way.values), RATE)
    out = process.run(sound, process.at_rest(1))
    assert loudness_lufs(out, RATE) == pytest.approx(loudness_lufs(sound, RATE), abs=0.1)
    assert steps(stage.model_copy(update=way.values))["makeup_db"].ways == []


def test_what_is_left_at_the_next_hit_falls_with_the_release() -> None:
    def left(ms: float) -> float:
        said = steps(STAGE.model_copy(update={"release_ms": ms}))["release_ms"].said
        return float(said.split()[0])

    assert left(20) == 0.0
    assert left(2000) > 2


def test_without_hits_there_is_nothing_to_say() -> None:
    assert steps_of(STAGE, np.zeros(RATE, np.float32), RATE, []) == []
