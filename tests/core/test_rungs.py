"""Rungs of a ladder: they stand on the hits where they can, else around what the value is."""

import numpy as np
import pytest

from arkund.core.advise.dynamics.stages import typical_reduction_db
from arkund.core.advise.rungs import AROUND, REDUCTIONS_DB, peak_ms, rungs_of
from arkund.core.errors import ArkundError
from arkund.core.process.band import Band
from arkund.core.process.compressor import Compressor
from arkund.core.process.transient import Transient
from arkund.core.shape.compressor import FAMILIES

RATE = 48_000
RISE_S, GAP_S = 0.006, 0.5


def drum(count: int = 8) -> tuple[np.ndarray, list[float]]:
    """Hits every `GAP_S` that rise for `RISE_S` and ring for 60 ms."""
    t = np.arange(round(GAP_S * RATE)) / RATE
    one = np.minimum(t / RISE_S, 1) * np.exp(-np.maximum(t - RISE_S, 0) / 0.06)
    sound = 0.5 * np.tile(one * np.sin(2 * np.pi * 900 * t), count)
    return sound.astype(np.float32), [n * GAP_S for n in range(count)]


def test_the_peak_is_where_the_hit_has_risen() -> None:
    assert peak_ms(*drum()[:1], RATE, drum()[1]) == pytest.approx(RISE_S * 1000, abs=0.8)


def test_attacks_stand_around_the_peak_and_releases_around_the_gap() -> None:
    sound, times = drum()
    attacks = [
        r.values["attack_ms"] for r in rungs_of(Compressor(), "attack_ms", sound, RATE, times)
    ]
    assert attacks == sorted(attacks)
    assert attacks[0] < RISE_S * 1000 < attacks[2]
    releases = [
        r.values["release_ms"] for r in rungs_of(Compressor(), "release_ms", sound, RATE, times)
    ]
    assert releases[1] == pytest.approx(GAP_S * 1000 / 3, rel=0.01)
    assert releases[2] == pytest.approx(GAP_S * 1000, rel=0.01)


def test_thresholds_take_off_what_they_say() -> None:
    sound, times = drum()
    stage = Compressor(attack_ms=0.5, on=False)
    for rung, wanted in zip(
        rungs_of(stage, "threshold_db", sound, RATE, times), REDUCTIONS_DB, strict=True
    ):
        there = stage.model_copy(update={"on": True, **rung.values})
        assert typical_reduction_db(sound, RATE, there, times) == pytest.approx(wanted, abs=0.3)
        assert f"{wanted:g} dB" in rung.why


def test_families_are_heard_at_one_reduction() -> None:
    sound, times = drum()
    stage = Compressor(threshold_db=-18, attack_ms=1)
    wanted = typical_reduction_db(sound, RATE, stage, times)
    found = rungs_of(stage, "family", sound, RATE, times)
    assert [r.values["family"] for r in found] == list(FAMILIES)
    for rung in found:
        there = stage.model_copy(update=rung.values)
        assert typical_reduction_db(sound, RATE, there, times) == pytest.approx(wanted, abs=0.3)


@pytest.mark.parametrize("now", [20.0, 1000.0, 15_500.0])
def test_anything_else_stands_around_what_it_is_within_its_ends(now: float) -> None:
    band = Band(id="b1", frequency_hz=now)
    found = [
        r.values["frequency_hz"]
        for r in rungs_of(band, "frequency_hz", np.zeros(0, np.float32), RATE, [])
    ]
    assert 3 <= len(found) <= len(AROUND)
    assert found == sorted(set(found))
    assert any(abs(f / now - 1) < 0.12 for f in found)
    for value in found:
        Band(id="b1", frequency_hz=value)


def test_without_hits_a_threshold_stands_around_what_it_is() -> None:
    found = rungs_of(
        Compressor(threshold_db=-20), "threshold_db", np.zeros(RATE, np.float32), RATE, []
    )
    assert [r.values["threshold_db"] for r in found] == [-35, -27.5, -20, -12.5, -5]


def test_what_has_nothing_to_choose_among_is_refused() -> None:
    for name in ("on", "nothing"):
        with pytest.raises(ArkundError, match="number or of words"):
            rungs_of(Transient(), name, np.zeros(0, np.float32), RATE, [])
