"""What a gate's threshold listens to: another mic, a band of one, and where that band lies."""

from typing import Any

import numpy as np
import pytest

from arkund.core.advise.clean.proposing import wanted_key
from arkund.core.clean.keying import LEAST_GAIN_DB, propose_key
from arkund.core.errors import SheetError
from arkund.core.graph.building import build
from arkund.core.graph.nodes import Gated
from arkund.core.hits.hit import Hit
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import Tempo
from tests.core.written_song import written_song

RATE, SECONDS = 48000, 12
TOM = [1.0 + n for n in range(0, 10, 2)]
KICK = [2.0 + n for n in range(0, 10, 2)]


def _burst(hz: float, gain: float) -> np.ndarray:
    time = np.arange(RATE // 5) / RATE
    return np.sin(2 * np.pi * hz * time) * np.exp(-time / 0.05) * gain


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library, np.ndarray]:
    """A tom mic in which the kick, a fifth lower, is as loud as the tom; and a kick mic without tom."""
    folder, rng = tmp_path_factory.mktemp("keyed"), np.random.default_rng(3)
    sounds = {m: rng.standard_normal(RATE * SECONDS) * 1e-4 for m in ("tom_1", "kick_in")}
    for times, own, hz in ((TOM, "tom_1", 700.0), (KICK, "kick_in", 60.0)):
        for t in times:
            at = round(t * RATE)
            sounds["tom_1"][at : at + RATE // 5] += _burst(hz, 0.4)
            if own == "kick_in":
                sounds["kick_in"][at : at + RATE // 5] += _burst(hz, 0.5)
    hits = _hits()
    sheet, paths = written_song(folder, sounds, RATE, tempo=Tempo(bpm=120))
    library = Library(path_of=paths.__getitem__, hits_of=lambda _: hits)
    return sheet, library, sounds["tom_1"].astype(np.float32)


def _hits() -> list[Hit]:
    return [
        Hit(f"{piece}{n}", piece, t, 100, "accent", 1.0, 0.0)
        for piece, times in (("tom_1", TOM), ("kick", KICK))
        for n, t in enumerate(times)
    ]


def _open_at(song: Any, patch: dict[str, Any]) -> set[float]:
    """The hits at whose beginning the tom's gate is open."""
    sheet, library, _ = song
    gate = {"on": True, "opens_on": "threshold", "threshold_db": -20, "range_db": -60}
    sheet = apply_patch(sheet, {f"mics.tom_1.clean.{k}": v for k, v in (gate | patch).items()})
    node: Any = build(sheet, library).mics["tom_1"].clean
    shape = node.shape(Engine(RATE, sheet.frames, TileCache()))
    return {t for t in (*TOM, *KICK) if shape.at(np.array([(t + 0.02) * RATE]))[0] > -1}


def test_the_band_is_where_the_drum_stands_out(song: Any) -> None:
    _, _, sound = song
    found = propose_key(sound, RATE, "tom_1", _hits())
    assert found is not None
    assert 120 <= found.low_hz < 700 < found.high_hz
    assert found.plain_db < 1 < 20 < found.margin_db
    measured = wanted_key(sound, RATE, "tom_1", _hits(), 0.0)
    assert measured is not None
    assert measured.margin_db >= measured.plain_db + LEAST_GAIN_DB


def test_no_band_is_proposed_without_hits_bleed_or_gain(song: Any) -> None:
    _, _, sound = song
    assert propose_key(sound, RATE, "tom_1", [h for h in _hits() if h.piece == "kick"]) is None
    assert propose_key(sound, RATE, "tom_1", [h for h in _hits() if h.piece == "tom_1"]) is None
    noise = np.random.default_rng(1).standard_normal(len(sound)).astype(np.float32) * 0.1
    assert propose_key(noise, RATE, "tom_1", _hits()) is None


def test_a_filtered_key_and_another_mic_open_the_gate(song: Any) -> None:
    assert _open_at(song, {}) == {*TOM, *KICK}
    assert _open_at(song, {"key.high_pass_hz": 400}) == set(TOM)
    assert _open_at(song, {"key.source": "kick_in"}) == set(KICK)
    assert _open_at(song, {"key.source": "kick_in", "key.high_pass_hz": 2000}) == set()


def test_the_key_is_heard_alone_and_comes_before_the_other_mics_gate(song: Any) -> None:
    sheet, library, sound = song
    patch = {
        "mics.tom_1.clean.on": True,
        "mics.tom_1.clean.opens_on": "threshold",
        "mics.tom_1.clean.key.source": "kick_in",
        "mics.kick_in.clean.on": True,
        "mics.kick_in.clean.opens_on": "threshold",
        "mics.kick_in.clean.threshold_db": 0,
        "mics.kick_in.clean.key.source": "tom_1",
    }
    graph = build(apply_patch(sheet, patch), library)
    engine = Engine(RATE, sheet.frames, TileCache())
    tom_hears = engine.read(graph.node("tom_1.clean.key"), 0, sheet.frames)
    kick_hears = engine.read(graph.node("kick_in.clean.key"), 0, sheet.frames)
    np.testing.assert_array_equal(kick_hears, sound)
    at = round(KICK[0] * RATE)
    assert np.abs(tom_hears[at : at + 4000]).max() > 0.3


def test_a_key_that_is_not_there_is_refused(song: Any) -> None:
    sheet, _, _ = song
    for source in ("snare_top", "drums", "tom_1_hits"):
        with pytest.raises(SheetError, match="gates listen to mics"):
            apply_patch(sheet, {"mics.tom_1.clean.key.source": source})


def test_a_gate_that_shuts_a_ring_leaves_the_rest_of_the_mic(song: Any) -> None:
    """Where the kick is struck what lies at the ring is 24 dB down, the kick itself as it was; the
    tom's own hits pass."""
    sheet, library, placed = song
    clean = {"on": True, "opens_on": "hits", "range_db": -60, "shuts": "ring", "ring_hz": 700}
    gated = apply_patch(sheet, {f"mics.tom_1.clean.{k}": v for k, v in clean.items()})
    node = build(gated, library).mics["tom_1"].clean
    assert isinstance(node, Gated)
    assert node.shut is not None
    engine = Engine(RATE, sheet.frames, TileCache())
    out = engine.read(node, 0, sheet.frames)

    def level_db(sound: np.ndarray, at_s: float, hz: float) -> float:
        part = sound[round(at_s * RATE) : round((at_s + 0.18) * RATE)]
        turn = np.exp(-2j * np.pi * hz * np.arange(len(part)) / RATE) * np.hanning(len(part))
        return float(20 * np.log10(np.abs(part @ turn)))

    for kick in KICK[:4]:
        before, after = (level_db(s, kick, 700) for s in (placed, out))
        assert before - after == pytest.approx(24, abs=3)
        for hz in (60, 5000):
            assert level_db(out, kick, hz) == pytest.approx(level_db(placed, kick, hz), abs=0.5)
    for tom in TOM:
        at = round(tom * RATE)
        np.testing.assert_allclose(out[at : at + 2000], placed[at : at + 2000], atol=1e-6)
    part = engine.read(node, 3 * RATE + 17, 5 * RATE)
    np.testing.assert_array_equal(part, out[3 * RATE + 17 : 5 * RATE], strict=True)
