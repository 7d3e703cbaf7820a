"""Linked pairs: what is set on one side is set on both, and what listens hears both."""

from typing import Any

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.pairs import completed, lane, lanes
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import Tempo
from tests.core.written_song import written_song

RATE, SECONDS = 8000, 8
MICS = ("snare_top", "overhead_l", "overhead_r", "room_l", "room_r")
SQUEEZE = {
    "overhead_l.chain.compressor.on": True,
    "overhead_l.chain.compressor.threshold_db": -30,
    "overhead_l.chain.compressor.ratio": 10,
}


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library]:
    """Tones; the left overhead alone has a burst in its second second."""
    folder, time = tmp_path_factory.mktemp("song"), np.arange(RATE * SECONDS) / RATE
    sounds = {
        mic: 0.02 * np.sin(2 * np.pi * (90 + 40 * number) * time) for number, mic in enumerate(MICS)
    }
    sounds["overhead_l"][RATE : 2 * RATE] *= 40
    sheet, paths = written_song(folder, sounds, RATE, tempo=Tempo(bpm=120))
    return sheet, Library(paths.__getitem__, lambda digest: ())


def _set(sheet: Sheet, patch: dict[str, Any]) -> Sheet:
    return apply_patch(sheet, completed(sheet, {f"mics.{k}": v for k, v in patch.items()}))


def _sound(sheet: Sheet, library: Library, mic: str) -> np.ndarray:
    node = build(sheet, library).mics[mic].shaped
    return Engine(RATE, sheet.frames, TileCache()).read(node, 0, sheet.frames)


def test_pairs_come_linked_and_are_one_lane(song: Any) -> None:
    sheet = song[0]
    assert lane(sheet, "overhead_r") == lane(sheet, "overhead_l") == ("overhead_l", "overhead_r")
    assert lanes(sheet) == ["snare_top", "overhead_l", "room_l"]
    out_of_use = apply_patch(sheet, {"mics.overhead_r.unused": "broken"})
    assert lanes(out_of_use) == ["snare_top", "overhead_l", "room_l"]
    assert lane(out_of_use, "overhead_l") == ("overhead_l",)


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("trim_db", 4.0),
        ("fader_db", -7.0),
        ("mute", True),
        ("chain.eq.bands.b2.gain_db", 3.0),
        ("chain.s7", {"kind": "saturation", "drive_db": 6}),
    ],
)
def test_what_they_share_is_set_on_both_sides_and_undone_on_both(
    song: Any, path: str, value: Any
) -> None:
    sheet = song[0]
    patch = completed(sheet, {f"mics.room_r.{path}": value})
    assert set(patch) == {f"mics.room_r.{path}", f"mics.room_l.{path}"}
    after = apply_patch(sheet, patch)
    assert after.mics["room_l"].chain == after.mics["room_r"].chain
    assert after != sheet
    assert apply_patch(after, inverse_patch(sheet, patch)) == sheet


def test_delay_polarity_and_pan_belong_to_each_side(song: Any) -> None:
    for path, value in (("delay_samples", 4), ("polarity", -1), ("pan", 0.2), ("clean.on", True)):
        patch = {f"mics.overhead_l.{path}": value}
        assert completed(song[0], patch) == patch


def test_a_patch_that_says_something_for_both_is_left_as_it_is(song: Any) -> None:
    patch = {"mics.overhead_l.trim_db": 2.0, "mics.overhead_r.trim_db": 3.0}
    assert completed(song[0], patch) == patch


def test_a_pair_taken_apart_is_two_lanes_and_takes_the_asked_side_when_linked_again(
    song: Any,
) -> None:
    apart = _set(song[0], {"overhead_l.linked": False})
    assert not apart.mics["overhead_r"].linked
    assert lanes(apart) == ["snare_top", "overhead_l", "overhead_r", "room_l"]
    apart = _set(apart, {"overhead_l.trim_db": 5.0})
    assert apart.mics["overhead_r"].trim_db == 0.0
    again = _set(apart, {"overhead_r.linked": True})
    assert again.mics["overhead_l"].linked
    assert again.mics["overhead_l"].trim_db == 0.0


def test_a_linked_compressor_holds_both_sides_by_the_louder_one(song: Any) -> None:
    """Only the left is loud; linked, the right goes down as much, and the image stands still."""
    burst = slice(RATE + RATE // 2, 2 * RATE - 100)

    def reduction_db(sheet: Sheet, mic: str) -> float:
        ratio = (
            np.abs(_sound(sheet, song[1], mic)[burst]).max()
            / np.abs(_sound(song[0], song[1], mic)[burst]).max()
        )
        return float(-20 * np.log10(ratio))

    linked = _set(song[0], SQUEEZE)
    left, right = (reduction_db(linked, m) for m in ("overhead_l", "overhead_r"))
    assert left > 15
    assert right == pytest.approx(left, abs=0.3)
    apart = _set(
        _set(song[0], {"overhead_l.linked": False}),
        SQUEEZE | {k.replace("_l", "_r", 1): v for k, v in SQUEEZE.items()},
    )
    assert reduction_db(apart, "overhead_r") < 1


def test_a_difference_on_one_side_is_heard_on_both(song: Any) -> None:
    over = {"path": "mics.overhead_l.fader_db", "bars": "2", "value": -60.0}
    sheet = apply_patch(song[0], {"over.d1": over})
    graph = build(sheet, song[1])
    engine = Engine(RATE, sheet.frames, TileCache())
    for mic in ("overhead_l", "overhead_r"):
        assert np.abs(engine.read(graph.outs[mic], 3 * RATE, 4 * RATE - 100)).max() < 1e-3
        assert np.abs(engine.read(graph.outs[mic], 5 * RATE, 6 * RATE)).max() > 1e-2
