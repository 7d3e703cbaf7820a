"""Ladders: rungs of one value, equally loud, seen or blind, as they are written."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import ArkundError
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.songs import ladders, rendering
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db

GAIN = "mics.snare_top.chain.eq.bands.b3.gain_db"


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


@pytest.fixture
def sheet(song: Song) -> Sheet:
    return apply_patch(sheet_of(song), {"mics.snare_top.chain.eq.bands.b3.on": True})


def heard(
    sheet: Sheet, path: str, values: list[float], start: int, stop: int
) -> list[ladders.Rung]:
    steps = ladders.given(path, values)
    return ladders.rungs_heard(sheet, steps, ladders.channel_of(path), start, stop)


def test_rungs_are_equally_loud_and_none_is_louder_than_it_came_out(sheet: Sheet) -> None:
    rungs = heard(sheet, GAIN, [-12, 0, 6, 12], 0, sheet.frames)
    loud = [loudness_lufs(rung.sound, sheet.rate) for rung in rungs]
    assert max(loud) - min(loud) <= 0.1
    assert max(rung.gain_db for rung in rungs) == 0
    assert [rung.was_lufs for rung in rungs] == sorted(rung.was_lufs for rung in rungs)


def test_a_rung_is_the_sheet_with_its_value_rendered(sheet: Sheet) -> None:
    rungs = heard(sheet, GAIN, [0, 9], 4800, 4 * 48_000)
    there = apply_patch(sheet, {GAIN: 9})
    wanted = rendering.render_span(there, "snare_top", "now", 4800, 4 * 48_000)
    gain = 10 ** (rungs[1].gain_db / 20)
    assert np.abs(rungs[1].sound - gain * wanted).max() < 1e-3 * np.abs(wanted).max()


def test_blind_rungs_are_shuffled_and_the_key_tells_which_is_which(
    sheet: Sheet, tmp_path: Path
) -> None:
    rungs = heard(sheet, GAIN, [-9, -3, 3, 9], 0, sheet.frames)
    orders = set()
    for seed in range(6):
        folder = tmp_path / str(seed)
        said = ladders.write_ladder(folder, sheet, GAIN, rungs, seed)
        assert said == json.loads((folder / "key.json").read_text())
        assert said["blind"]
        orders.add(tuple(one["value"] for one in said["rungs"]))
        for one in said["rungs"]:
            sound, rate = sf.read(folder / one["file"], always_2d=True)
            own = next(rung for rung in rungs if rung.step.value == one["value"])
            assert rate == sheet.rate
            assert np.array_equal(sound.astype(np.float32), own.sound)
    assert len(orders) > 1
    seen = ladders.write_ladder(tmp_path / "seen", sheet, GAIN, rungs)
    assert [one["value"] for one in seen["rungs"]] == [-9, -3, 3, 9]
    assert not list(tmp_path.glob("**/*.part"))


@pytest.mark.parametrize("values", [[1], [1, 2, 3, 4, 5, 6], []])
def test_too_few_and_too_many_are_refused(sheet: Sheet, values: list[float]) -> None:
    with pytest.raises(ArkundError, match="takes 2 to 5 values"):
        heard(sheet, GAIN, values, 0, sheet.frames)


def test_what_cannot_be_set_or_heard_is_refused_in_a_sentence(sheet: Sheet) -> None:
    with pytest.raises(ArkundError):
        heard(sheet, "mics.snare_top.chain.eq.bands.b3.gain", [1, 2], 0, sheet.frames)
    with pytest.raises(ArkundError):
        heard(sheet, "frames", [1, 2], 0, sheet.frames)
    with pytest.raises(ArkundError, match="nothing is heard"):
        heard(sheet, "drum_bus.fader_db", [-90, 0], 0, sheet.frames)


@pytest.mark.parametrize(
    ("path", "node"),
    [
        (GAIN, "snare_top"),
        ("mics.snare_top.fader_db", "output"),
        ("buses.strike.chain.compressor.ratio", "strike"),
        ("drum_bus.chain.compressor.ratio", "output"),
    ],
)
def test_what_is_heard_is_the_channel_or_where_it_is_heard(path: str, node: str) -> None:
    assert ladders.channel_of(path) == node


def test_rungs_that_are_offered_stand_on_the_drum_s_hits(sheet: Sheet) -> None:
    steps = ladders.offered(sheet, "mics.snare_top.chain.compressor.release_ms", 0, sheet.frames)
    assert 2 <= len(steps) <= ladders.MOST
    assert all(step.why for step in steps)
    assert [step.patch["mics.snare_top.chain.compressor.release_ms"] for step in steps] == [
        step.value for step in steps
    ]
    around = ladders.offered(sheet, "mics.snare_top.fader_db", 0, sheet.frames)
    assert any(step.value == sheet.mics["snare_top"].fader_db for step in around)


@pytest.mark.parametrize(
    ("rounds", "blind", "said"),
    [
        ([1], False, "9 ms chosen by ear over 3 ms, 36 ms, equally loud."),
        (
            [1, 0, 1],
            True,
            "9 ms chosen without seeing the values over 3 ms, 36 ms, equally loud, 2 times out of 3.",
        ),
    ],
)
def test_a_choice_is_kept_with_what_it_was_chosen_over(
    song: Song, rounds: list[int], blind: bool, said: str
) -> None:
    assert song.current is not None
    choice = ladders.Choice({GAIN: 3}, ["3 ms", "9 ms", "36 ms"], rounds, blind)
    made = ladders.keep_choice(song, song.current.number, choice, "eq")
    assert made.reason == said
    assert made.patch == {GAIN: 3}


@pytest.mark.parametrize("rounds", [[], [3], [0] * 2 + [7]])
def test_a_choice_of_no_rung_is_refused(rounds: list[int]) -> None:
    with pytest.raises(ArkundError, match="open the ladder again"):
        ladders.reason_of(ladders.Choice({GAIN: 3}, ["3 ms", "9 ms", "36 ms"], rounds, False))
