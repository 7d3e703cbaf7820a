"""Tempos at which the same hits can be read."""

import numpy as np
import pytest

from arkund.core.hits.hit import Hit
from arkund.core.timing.beginning import first_grid
from arkund.core.timing.readings import BETTER, NEAR, readings


def _hit(piece: str, time_s: float, level_db: float = 0.0) -> Hit:
    return Hit(f"{piece}{time_s}", piece, time_s, 100, "plain", 0.9, level_db)


def _song(bpm: float, bars: int, kick: list[float], snare: list[float], top: int) -> list[Hit]:
    """``bars`` of four beats: kick and snare on these beats, ``top`` hats to the beat."""
    beat = 60.0 / bpm
    out = []
    for bar in range(bars):
        at = 1.0 + 4 * bar * beat
        out += [_hit("kick", at + b * beat) for b in kick]
        out += [_hit("snare", at + b * beat) for b in snare]
        out += [_hit("hat", at + n * beat / top) for n in range(4 * top)]
    return sorted(out, key=lambda h: h.time_s)


def _uneven(bpm: float, bars: int, top: int) -> list[Hit]:
    """A bar in which nothing comes again before its end."""
    return _song(bpm, bars, [0.0, 0.75, 2.5], [1.0, 2.25, 3.0], top)


@pytest.mark.parametrize("ratio", [0.5, 2 / 3, 1.5, 2.0])
def test_a_wrong_reading_is_outweighed_by_the_right_one(ratio: float) -> None:
    """Held at another tempo, what comes again after a bar says which is meant."""
    hits, bpm = _uneven(120.0, 16, 2), 120.0 / ratio
    found = readings(hits, bpm)
    if ratio < 1:
        # After two bars the bar comes again too: the longer reading is merely as good.
        assert found[0].bpm == pytest.approx(120.0) or found[0].weight < BETTER
        assert any(r.bpm == pytest.approx(120.0) and r.weight > 0.5 for r in found)
    else:
        assert found[0].bpm == pytest.approx(120.0)
        assert found[0].weight > BETTER


def test_a_right_reading_is_not_outweighed() -> None:
    for bpm in (84.0, 104.0, 128.0, 150.0):
        assert max(r.weight for r in readings(_uneven(bpm, 16, 2), bpm)) < BETTER


@pytest.mark.parametrize("seed", range(10))
@pytest.mark.parametrize("feel", ["straight", "triplets"])
def test_a_bar_played_by_hand_is_read_at_its_tempo_or_that_is_offered(feel: str, seed: int) -> None:
    rng = np.random.default_rng(seed)
    bpm = float(rng.uniform(78, 150))
    hits = (
        _uneven(bpm, 16, 2)
        if feel == "straight"
        else _song(bpm, 16, [0.0, 2 / 3, 2.0], [1.0, 3.0, 8 / 3], 3)
    )
    played = [
        _hit(h.piece, h.time_s + float(rng.normal(0, 0.004)), float(rng.normal(-1, 1)))
        for h in hits
    ]
    grid = first_grid(played, 4, 4)
    near = [grid.bpm, *(r.bpm for r in readings(played, grid.bpm) if r.weight >= NEAR)]
    assert any(one == pytest.approx(bpm, rel=0.01) for one in near), (bpm, near)


def test_few_hits_are_read_one_way() -> None:
    assert readings([], 120.0) == []
    assert readings(_song(120.0, 3, [0.0], [2.0], 2), 120.0) == []


def test_readings_stay_within_the_range_of_songs() -> None:
    slow = [r.bpm for r in readings(_uneven(70.0, 16, 2), 70.0)]
    assert min(slow) >= 55
    assert 140.0 in slow
    assert max(r.bpm for r in readings(_uneven(200.0, 16, 2), 200.0)) <= 225
