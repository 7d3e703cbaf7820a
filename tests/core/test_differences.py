"""Values that differ over bars: where they are heard, how they come and go, what is refused."""

from pathlib import Path
from typing import Any

import numpy as np
import pytest

from arkund.core.errors import ArkundError, SheetError
from arkund.core.graph.building import build
from arkund.core.graph.nodes import Node
from arkund.core.process.compressor import Compressor
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import Bus, Send
from arkund.core.sheet.differences import Over
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.scenes import put_over, scenes_of, taken_out
from arkund.core.sheet.sheet import Sheet, dump, load
from arkund.core.sheet.tempo import Tempo
from arkund.core.units import amplitude_to_db
from tests.core.written_song import written_song

RATE, BARS = 8000, 12
BAR = RATE * 2
MICS = ("kick_in", "snare_top", "overhead_l", "overhead_r")
THRESHOLD = "mics.snare_top.chain.compressor.threshold_db"


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library]:
    """Twelve bars at 120 BPM of low, steady sound, in which a click stands out."""
    folder = tmp_path_factory.mktemp("song")
    time = np.arange(BAR * BARS) / RATE
    sounds = {
        mic: 0.3 * np.sin(2 * np.pi * (70 + 23 * number) * time)
        + 0.1 * np.sin(2 * np.pi * 190 * time)
        for number, mic in enumerate(MICS)
    }
    buses = {
        "punch": Bus(
            sends={"snare_top": Send()}, chain=(Compressor(threshold_db=-30),), fader_db=-6
        )
    }
    sheet, paths = written_song(folder, sounds, RATE, buses=buses, tempo=Tempo(bpm=120))
    on = {"mics.snare_top.chain.compressor.on": True, THRESHOLD: -20}
    return apply_patch(sheet, on), Library(paths.__getitem__, lambda digest: ())


def _sound(sheet: Sheet, library: Library, name: str = "output") -> np.ndarray:
    engine = Engine(RATE, sheet.frames, TileCache())
    return engine.read(build(sheet, library).node(name), 0, sheet.frames)


def _differing(
    sheet: Sheet, path: str, value: Any, bars: str = "5-6", ramp_ms: float = 50
) -> Sheet:
    over = {"path": path, "bars": bars, "value": value, "ramp_ms": ramp_ms}
    return apply_patch(sheet, {"over.d1": over})


WHAT = [
    (THRESHOLD, -35.0),
    ("mics.snare_top.chain.compressor.on", False),
    ("mics.snare_top.fader_db", -12.0),
    ("mics.snare_top.pan", 0.7),
    ("mics.snare_top.mute", True),
    ("mics.overhead_l.chain.eq.bands.b2.gain_db", 6.0),
    ("groups.cymbals.fader_db", -6.0),
    ("groups.snare.mute", True),
    ("buses.punch.fader_db", 0.0),
    ("buses.punch.sends.snare_top.db", -20.0),
    ("buses.punch.chain.compressor.ratio", 20.0),
    ("drum_bus.fader_db", -9.0),
    ("drum_bus.chain.compressor.on", True),
    ("mics.kick_in.trim_db", 6.0),
]


@pytest.mark.parametrize(("path", "value"), WHAT)
def test_it_is_one_song_in_the_bars_and_the_other_beyond(song: Any, path: str, value: Any) -> None:
    sheet, library = song
    if path.endswith("eq.bands.b2.gain_db"):
        sheet = apply_patch(sheet, {"mics.overhead_l.chain.eq.bands.b2.on": True})
    plain, throughout = _sound(sheet, library), _sound(apply_patch(sheet, {path: value}), library)
    got = _sound(_differing(sheet, path, value), library)
    ramp, first, last = round(0.05 * RATE), 4 * BAR, 6 * BAR
    # Compressors of buses that hear it remember for a while what they heard.
    later = last + ramp + RATE
    assert np.abs(got[:first] - plain[:first]).max() < 1e-6
    assert np.abs(got[later:] - plain[later:]).max() < 1e-3
    inside = slice(first + ramp + RATE, last)
    assert np.abs(got[inside] - throughout[inside]).max() < 1e-3
    assert np.abs(plain[inside] - throughout[inside]).max() > 0.004


def _second_differences(sound: np.ndarray) -> np.ndarray:
    return np.abs(np.diff(sound, 2, axis=0)).max(axis=1)


def test_nothing_clicks_where_a_difference_comes_and_goes(song: Any) -> None:
    """The largest second difference within a ramp against the 99.9th percentile around it."""
    rng = np.random.default_rng(31)
    for _ in range(50):
        path, value = WHAT[int(rng.integers(len(WHAT)))]
        bar = int(rng.integers(2, 10))
        ramp_ms = float(rng.choice([10.0, 50.0, 300.0]))
        sheet = _differing(song[0], path, value, f"{bar}-{bar + 1}", ramp_ms)
        curve = _second_differences(_sound(sheet, song[1]))
        ramp = round(ramp_ms * RATE / 1000)
        for edge in ((bar - 1) * BAR, (bar + 1) * BAR):
            around = np.concatenate(
                [curve[edge - BAR // 2 : edge - 8], curve[edge + ramp + 8 :][: BAR // 2]]
            )
            assert curve[edge - 4 : edge + ramp + 4].max() <= 1.5 * np.quantile(around, 0.999), path


def test_of_two_over_the_same_bars_the_later_one_goes_before(song: Any) -> None:
    path = "mics.kick_in.fader_db"
    two = apply_patch(
        song[0],
        {
            "over.a": {"path": path, "bars": "3-8", "value": -6.0},
            "over.b": {"path": path, "bars": "5", "value": -20.0},
        },
    )
    kick = build(two, song[1]).outs["kick_in"]
    engine = Engine(RATE, two.frames, TileCache())

    def level(bar: int) -> float:
        part = engine.read(kick, (bar - 1) * BAR + BAR // 2, bar * BAR)
        return amplitude_to_db(float(np.abs(part).max()))

    assert level(4) - level(1) == pytest.approx(-6, abs=0.05)
    assert level(5) - level(1) == pytest.approx(-20, abs=0.05)
    assert level(7) - level(1) == pytest.approx(-6, abs=0.05)
    assert level(10) - level(1) == pytest.approx(0, abs=0.05)


def test_one_difference_holds_over_several_bars_as_over_each_alone(song: Any) -> None:
    path = "mics.kick_in.fader_db"
    several = _differing(song[0], path, -6.0, "3-4, 8,10-11")
    alone = apply_patch(
        song[0],
        {
            f"over.d{n}": {"path": path, "bars": bars, "value": -6.0}
            for n, bars in enumerate(("3-4", "8", "10-11"))
        },
    )
    assert np.array_equal(_sound(several, song[1]), _sound(alone, song[1]))


def test_a_scene_goes_over_other_bars_and_away_in_one_change(song: Any) -> None:
    values = {"mics.kick_in.fader_db": -6.0, THRESHOLD: -35.0, "groups.cymbals.mute": True}
    sheet = apply_patch(
        song[0],
        {
            f"over.d{n}": {"path": path, "bars": "3-4", "value": value, "scene": "chorus 1"}
            for n, (path, value) in enumerate(values.items())
        }
        | {"over.own": {"path": "drum_bus.fader_db", "bars": "3-4", "value": -2.0}},
    )
    assert {o.path for o in scenes_of(sheet)["chorus 1"]} == set(values)
    moved = apply_patch(sheet, put_over(sheet, "chorus 1", "5-6, 9"))
    assert {o.bars for o in moved.over if o.scene} == {"5-6, 9"}
    assert moved.over[-1] == sheet.over[-1]
    assert [o.id for o in apply_patch(moved, taken_out(moved, "chorus 1")).over] == ["own"]
    with pytest.raises(ArkundError, match="There are: chorus 1"):
        put_over(sheet, "bridge", "1")
    with pytest.raises(ArkundError, match="The song has none"):
        taken_out(song[0], "bridge")


def test_what_does_not_differ_stays_what_it_was(song: Any) -> None:
    """Channels without differences keep their keys, and so every tile of theirs."""
    sheet = _differing(song[0], THRESHOLD, -35.0)
    before, after = build(song[0], song[1]), build(sheet, song[1])

    def keys(nodes: dict[str, Node]) -> dict[str, str]:
        return {name: node.key for name, node in nodes.items() if name != "snare_top"}

    assert keys(before.outs) == keys(after.outs)
    plain = before.mics["snare_top"].shaped
    parts = after.mics["snare_top"].shaped.parts  # type: ignore[attr-defined]
    assert [node.key == plain.key for _, _, node in parts] == [True, False, True]


def test_it_is_stored_named_and_undone(song: Any) -> None:
    sheet = _differing(song[0], THRESHOLD, -35.0)
    assert load(dump(sheet)) == sheet
    patch = {"over.d1": {"path": THRESHOLD, "bars": "5-6", "value": -35.0}}
    assert apply_patch(sheet, inverse_patch(song[0], patch)) == song[0]
    longer = apply_patch(sheet, {"over.d1.bars": "5-8"})
    assert apply_patch(longer, inverse_patch(sheet, {"over.d1.bars": "5-8"})) == sheet


@pytest.mark.parametrize(
    ("over", "words"),
    [
        ({"path": THRESHOLD, "bars": "11-13", "value": -30}, "13; the song has 12"),
        ({"path": THRESHOLD, "bars": "6-5", "value": -30}, "6-5"),
        ({"path": THRESHOLD, "bars": "0-2", "value": -30}, "0-2"),
        ({"path": THRESHOLD, "bars": "all", "value": -30}, "bars"),
        ({"path": THRESHOLD, "bars": "5,", "value": -30}, "bars"),
        ({"path": THRESHOLD, "bars": "5, 11-13", "value": -30}, "13; the song has 12"),
        ({"path": THRESHOLD, "bars": "5", "value": -30, "scene": "<b>"}, "scene"),
        ({"path": THRESHOLD, "bars": "5", "value": 3}, "0"),
        ({"path": THRESHOLD, "bars": "5", "value": "loud"}, "number"),
        ({"path": "mics.snare_top.chain.nobody.ratio", "bars": "5", "value": 3}, "nobody"),
        ({"path": "mics.snare_top.delay_samples", "bars": "5", "value": 3}, "same throughout"),
        ({"path": "tempo.bpm", "bars": "5", "value": 100}, "same throughout"),
        ({"path": "mics.snare_top.chain.eq.after", "bars": "5", "value": ""}, "same throughout"),
        ({"path": THRESHOLD, "bars": "5", "value": -30, "ramp_ms": 0}, "1"),
    ],
)
def test_what_cannot_differ_is_said(song: Any, over: dict[str, Any], words: str) -> None:
    with pytest.raises(SheetError, match=words):
        apply_patch(song[0], {"over.d1": over})


def test_a_stage_on_which_a_difference_rests_is_not_taken_out(song: Any, tmp_path: Path) -> None:
    sheet = _differing(song[0], THRESHOLD, -35.0)
    with pytest.raises(SheetError, match="difference"):
        apply_patch(sheet, {"mics.snare_top.chain.compressor": None})
    both = {"over.d1": None, "mics.snare_top.chain.compressor": None}
    assert apply_patch(sheet, both).over == ()


def test_what_is_removed_takes_its_differences_along(song: Any) -> None:
    sheet = apply_patch(
        song[0],
        {
            "buses.extra": {},
            "mics.snare_top.chain.s1": {"kind": "saturation"},
            "over.a": {"path": "buses.extra.mute", "bars": "1-2", "value": True},
            "over.b": {"path": "mics.snare_top.chain.s1.on", "bars": "1", "value": False},
            "over.c": {"path": "mics.snare_top.fader_db", "bars": "1", "value": -3},
        },
    )
    gone = completed(sheet, {"buses.extra": None, "mics.snare_top.chain.s1": None})
    left = apply_patch(sheet, gone)
    assert [over.id for over in left.over] == ["c"]
    assert apply_patch(left, inverse_patch(sheet, gone)) == sheet


@pytest.mark.parametrize(
    ("path", "own", "more", "then"),
    [
        ("mics.snare_top.fader_db", -4.0, -3.0, -7.0),
        ("mics.snare_top.fader_db", 11.0, 3.0, 12.0),  # no more than there is
        ("mics.snare_top.fader_db", -90.0, 6.0, -90.0),  # what is shut stays shut
        ("buses.punch.sends.snare_top.db", -2.0, -4.0, -6.0),
        (THRESHOLD, -20.0, -5.0, -25.0),
        ("mics.snare_top.chain.eq.bands.b2.frequency_hz", 400.0, 100.0, 500.0),
    ],
)
def test_an_amount_follows_what_the_song_has(
    song: Any, path: str, own: float, more: float, then: float
) -> None:
    over = {"path": path, "bars": "5-6", "value": more, "by": True}
    sheet = apply_patch(song[0], {"over.d1": over})
    sheet = apply_patch(sheet, {path: own})
    absolute = apply_patch(sheet, {"over.d1": {"path": path, "bars": "5-6", "value": then}})
    np.testing.assert_array_equal(_sound(sheet, song[1]), _sound(absolute, song[1]))


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("mics.snare_top.mute", 1.0),
        ("mics.snare_top.fader_db", "loud"),
        ("mics.snare_top.fader_db", True),
    ],
)
def test_only_numbers_change_by_an_amount(song: Any, path: str, value: Any) -> None:
    over = {"path": path, "bars": "5-6", "value": value, "by": True}
    with pytest.raises(SheetError, match="is no number that could be changed by an amount"):
        apply_patch(song[0], {"over.d1": over})


@pytest.mark.parametrize(
    ("value", "kept"),
    [
        (1, 1.0),
        (0.0, 0.0),
        (-3, -3.0),
        (True, True),
        (False, False),
        ("hits", "hits"),
        ("-2.5", -2.5),
    ],
)
def test_a_value_of_one_or_nought_is_a_number(value: object, kept: object) -> None:
    one = Over.model_validate({"id": "a", "path": "mics.hat.fader_db", "bars": "1", "value": value})
    assert one.value == kept
    assert type(one.value) is type(kept)
