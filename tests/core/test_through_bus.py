"""Stems through the drum bus: they sum to the mix, each with the mix's gain, and EQ as it is."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf

from arkund.core.graph.building import build
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.through_bus import steps_of
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from tests.core.written_song import written_song
from tests.printing import printed as printed_graph

RATE = 44_100
GLUE = {"drum_bus.chain.compressor.on": True, "drum_bus.chain.compressor.threshold_db": -30}
EQ = {
    "drum_bus.chain.eq": {
        "kind": "eq",
        "after": "",
        "bands": [{"id": "b1", "on": True, "gain_db": 6, "frequency_hz": 2000}],
    }
}
HARD = {
    "drum_bus.chain.drive": {"kind": "saturation", "drive_db": 12},
    "drum_bus.chain.top": {"kind": "limiter", "ceiling_db": -9},
}
BUS = {"buses.strike": {"sends": {"snare_top": {"db": 0}}, "fader_db": -6}}


@pytest.fixture
def song(tmp_path: Path) -> tuple[Sheet, Library]:
    """Three mics with hits, apart in time and pitch."""
    t, rng = np.arange(5 * RATE) / RATE, np.random.default_rng(4)
    sounds = {}
    for mic, hz, first in (("kick_in", 60, 0.2), ("snare_top", 200, 0.7), ("hat", 6000, 0.45)):
        sound = np.zeros(len(t))
        for at in np.arange(first, 4.8, 1.0):
            since = np.maximum(t - at, 0)
            sound += (t >= at) * np.exp(-since / 0.08) * np.sin(2 * np.pi * hz * since)
        sounds[mic] = 0.5 * sound + 1e-4 * rng.standard_normal(len(t))
    sheet, paths = written_song(tmp_path, sounds, RATE)
    return sheet, Library(paths.__getitem__, lambda digest: [])


def printed(
    song: tuple[Sheet, Library], patch: dict[str, Any], folder: Path, **more: Any
) -> tuple[Any, dict[str, np.ndarray]]:
    sheet = apply_patch(song[0], patch)
    graph = build(sheet, song[1])
    report = printed_graph(
        Engine(RATE, sheet.frames, TileCache()),
        graph,
        folder,
        file_format="wav32f",
        tap="bus",
        bus=steps_of(graph, sheet),
        **more,
    )
    return report, {f.removesuffix(".wav"): sf.read(str(folder / f))[0] for f in report.files}


@pytest.mark.parametrize(
    "patch",
    [
        {},
        {"drum_bus.fader_db": -7},
        GLUE,
        EQ,
        {**EQ, **GLUE, **HARD, **BUS, "drum_bus.fader_db": 3},
        {**GLUE, "over.d1": {"path": "drum_bus.chain.compressor.ratio", "bars": "1", "value": 8}},
    ],
)
def test_stems_sum_to_the_mix_bus_and_all(
    song: tuple[Sheet, Library], patch: dict[str, Any], tmp_path: Path
) -> None:
    report, sounds = printed(song, patch, tmp_path / "out")
    assert report.tap == "bus"
    assert report.null_db <= -110
    mix = sounds.pop("mix")
    assert np.abs(np.sum(list(sounds.values()), axis=0) - mix).max() < 1e-5


def test_each_stem_has_the_gain_of_the_mix(song: tuple[Sheet, Library], tmp_path: Path) -> None:
    """The kick alone at 0.2 s sounds through the bus as the mix does there; the hat's stem has none of it."""
    _, sounds = printed(song, {**GLUE, "drum_bus.fader_db": -3}, tmp_path / "out")
    kick = slice(round(0.2 * RATE), round(0.4 * RATE))
    assert np.abs(sounds["kick_in"][kick] - sounds["mix"][kick]).max() < 0.01
    assert np.abs(sounds["hat"][kick]).max() < 0.01


def test_an_eq_is_run_on_every_stem(song: tuple[Sheet, Library], tmp_path: Path) -> None:
    _, plain = printed(song, {}, tmp_path / "plain")
    _, boosted = printed(song, EQ, tmp_path / "eq")
    gains = [np.abs(boosted[name]).max() / np.abs(plain[name]).max() for name in ("kick_in", "hat")]
    assert gains[0] == pytest.approx(1.0, abs=0.03)
    assert gains[1] > 1.03
    steps = steps_of(build(apply_patch(song[0], EQ), song[1]), apply_patch(song[0], EQ))
    assert [step.eq is not None for step in steps] == [True]


def test_a_stem_is_the_same_whether_the_others_are_written_or_not(
    song: tuple[Sheet, Library], tmp_path: Path
) -> None:
    """What is not printed is a part of the mix all the same: the strike return does not come into the mics."""
    patch = {**GLUE, **HARD, **BUS}
    _, every = printed(song, patch, tmp_path / "all")
    report, mics = printed(song, patch, tmp_path / "mics", kinds=["mics"])
    assert report.null_db is None
    for name, sound in mics.items():
        assert np.abs(sound - every[name]).max() < 1e-6
