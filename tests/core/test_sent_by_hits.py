"""Sends that open on a drum's hits: what lies between the hits stays out of the bus."""

from pathlib import Path

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.hits.hit import Hit
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from tests.core.written_song import written_song

RATE = 44_100
HITS_S = (0.5, 1.5, 2.5)


def returned(folder: Path, **send: object) -> tuple[np.ndarray, np.ndarray]:
    """What a bus gets of a snare with hits at `HITS_S` and of the bleed between, which is as loud."""
    t = np.arange(4 * RATE) / RATE
    sound = np.zeros(len(t))
    for at in (*HITS_S, 1.0, 2.0, 3.0):
        since = np.maximum(t - at, 0)
        sound += (t >= at) * np.exp(-since / 0.04) * np.sin(2 * np.pi * 200 * since)
    sheet, paths = written_song(folder, {"snare_top": 0.5 * sound, "room_l": sound}, RATE)
    sheet = apply_patch(
        sheet, {"buses.plate": {"sends": {"snare_top": {"db": 0, **send}}, "fader_db": 0}}
    )
    hits = [Hit(f"h{n}", "snare", at, 90, "plain", 1.0, 0.0) for n, at in enumerate(HITS_S)]
    graph = build(sheet, Library(paths.__getitem__, lambda digest: hits))
    engine = Engine(RATE, sheet.frames, TileCache())
    return engine.read(graph.returns["plate"], 0, sheet.frames), t


def peak(sound: np.ndarray, at_s: float) -> float:
    return float(np.abs(sound[round(at_s * RATE) : round((at_s + 0.1) * RATE)]).max())


@pytest.mark.parametrize("pre", [True, False])
def test_hits_pass_whole_and_bleed_stays_out(tmp_path: Path, pre: bool) -> None:
    plain, t = returned(tmp_path, pre=pre)
    opened, _ = returned(tmp_path, pre=pre, by_hits=True)
    for at in HITS_S:
        here = (t >= at) & (t < at + 0.1)
        np.testing.assert_allclose(opened[here], plain[here], atol=1e-6)
        assert peak(plain, at + 0.5) == pytest.approx(peak(plain, at), rel=0.01)
        assert peak(opened, at + 0.5) < 1e-4 * peak(opened, at)


def test_what_has_no_drum_of_its_own_is_sent_whole(tmp_path: Path) -> None:
    sheet, paths = written_song(tmp_path, {"room_l": np.ones(RATE) * 0.1}, RATE)
    sheet = apply_patch(
        sheet,
        {"buses.plate": {"sends": {"room_l": {"db": 0, "by_hits": True}}, "fader_db": 0}},
    )
    graph = build(sheet, Library(paths.__getitem__, lambda digest: []))
    engine = Engine(RATE, sheet.frames, TileCache())
    assert np.abs(engine.read(graph.returns["plate"], 0, RATE)[:, 0]).min() > 0.05
