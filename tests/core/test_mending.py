"""Hum found and notched, clipped runs rebuilt, single hits turned down."""

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.clean.mending import ease_gain, hum_sections, rebuild
from arkund.core.graph.nodes import File, Mended
from arkund.core.measure.hum import NO_HUM, find_hum, hum_level_dbfs
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.shape import biquad

RATE = 48000


def _drums(seconds: float, rng: np.random.Generator) -> np.ndarray:
    """A kick at 58 Hz every half second over noise: what hum must be told from."""
    out = rng.standard_normal(round(seconds * RATE)) * 1e-4
    after = np.arange(RATE) / RATE
    hit = 0.4 * np.sin(2 * np.pi * 58 * after) * np.exp(-after / 0.08)
    for beat in np.arange(0.2, seconds, 0.5):
        at = round((beat + rng.normal(0, 0.003)) * RATE)
        out[at : at + RATE] += hit[: len(out) - at]
    return out


@pytest.mark.parametrize("mains", [50.0, 60.0])
def test_hum_under_drums_is_found(mains: float) -> None:
    rng = np.random.default_rng(int(mains))
    sound = _drums(40, rng)
    time = np.arange(len(sound)) / RATE
    for number, level in ((1, -52), (2, -56), (3, -58)):
        sound += 10 ** (level / 20) * np.sin(2 * np.pi * mains * number * time + number)
    found = find_hum(sound.astype(np.float32), RATE)
    assert found.hz == mains
    # The two clearest of sines of −52, −56 and −58 dB: 3 dB less in power, then added.
    assert -60 < found.level_dbfs < -51


def test_drums_without_hum_have_none() -> None:
    assert find_hum(_drums(40, np.random.default_rng(9)).astype(np.float32), RATE) == NO_HUM


def test_short_sound_is_not_judged() -> None:
    time = np.arange(RATE * 3) / RATE
    assert find_hum(np.sin(2 * np.pi * 50 * time).astype(np.float32) * 0.1, RATE) == NO_HUM


def test_notches_take_the_lines_and_leave_the_rest() -> None:
    sections = hum_sections(50.0, 4, RATE)
    lines = biquad.response_db(sections, np.array([50.0, 100.0, 150.0, 200.0]), RATE)
    between = biquad.response_db(sections, np.array([57.0, 75.0, 125.0, 1000.0]), RATE)
    assert np.all(lines < -40)
    assert np.all(np.abs(between) < 0.35)


def test_notched_hum_is_gone_by_measure() -> None:
    time = np.arange(RATE * 20) / RATE
    hum = (0.003 * np.sin(2 * np.pi * 60 * time)).astype(np.float32)
    sections = hum_sections(60.0, 5, RATE)
    out = biquad.run(hum, sections, biquad.new_state(sections))
    steady = out[RATE * 4 :]
    assert hum_level_dbfs(steady, RATE, 60.0) < hum_level_dbfs(hum, RATE, 60.0) - 30


@pytest.mark.parametrize("hz", [180.0, 400.0, 900.0])
def test_a_clipped_peak_is_drawn_as_it_was(hz: float) -> None:
    time = np.arange(2000) / RATE
    true = 1.08 * np.sin(2 * np.pi * hz * time)
    sound = np.clip(true, -1, 1).astype(np.float32)
    over = np.flatnonzero(np.abs(true) >= 1)
    first = over[over > 100][0]
    count = 1
    while abs(true[first + count]) >= 1:
        count += 1
    rebuild(sound, int(first), count)
    part = slice(first, first + count)
    assert np.abs(sound[part] - true[part]).max() < 0.012
    assert np.abs(sound[part]).min() >= 1.0


def test_a_run_at_the_very_edge_is_left() -> None:
    sound = np.ones(10, np.float32)
    rebuild(sound, 2, 4)
    assert np.all(sound == 1)


def test_a_gain_over_one_hit_eases_in_and_out() -> None:
    sound = np.ones(4800, np.float32)
    ease_gain(sound, 1000, 2000, 0.5, RATE)
    assert sound[1000:3000] == pytest.approx(0.5)
    assert sound[:900] == pytest.approx(1.0)
    assert sound[3100:] == pytest.approx(1.0)
    assert np.abs(np.diff(sound)).max() < 0.01


def test_mending_any_span_equals_mending_the_whole(tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    sound = np.clip(rng.standard_normal(RATE) * 0.5, -1, 1)
    path = tmp_path / "x.wav"
    sf.write(str(path), sound, RATE, subtype="FLOAT")
    node = Mended(File(path, "0" * 64, "mono"), 0.02, ((5000, 3), (5200, 6)), ((5100, 900, 0.4),))
    engine = Engine(RATE, RATE, TileCache())
    whole = engine.read(node, 0, RATE)
    for start, stop in ((0, 100), (4990, 5003), (5001, 5300), (5700, 6300), (47000, 48000)):
        assert np.array_equal(engine.read(node, start, stop), whole[start:stop])
    assert whole[20000] == np.float32(np.float32(sound[20000]) - np.float32(0.02))
