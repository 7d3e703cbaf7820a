"""What a print writes: kinds, taps, names; and that taps are what they say."""

from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import ArkundError
from arkund.core.graph.building import build, edited
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.printing import PrintReport, print_song
from arkund.core.render.stems import counted, is_whole, stems_of
from arkund.core.render.wish import USUAL, Wish, named_by
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from tests.core.written_song import written_song

RATE = 44_100
PIECES = {"kick_in": "kick", "kick_out": "kick", "snare_top": "snare", "overhead_l": "overhead"}
DRIVE = {"kind": "saturation", "drive_db": 6}


@pytest.fixture
def song(tmp_path: Path) -> tuple[Sheet, Library]:
    """Four mics of noise in whole 16-bit steps, which 24 bits hold."""
    rng = np.random.default_rng(3)
    sounds = {mic: rng.integers(-9000, 9000, 3 * RATE) / 32768 for mic in PIECES}
    sheet, paths = written_song(tmp_path, sounds, RATE)
    return sheet, Library(paths.__getitem__, lambda digest: [])


def printed(song: tuple[Sheet, Library], wish: Wish, folder: Path, **more: Any) -> PrintReport:
    sheet, library = song
    graph = build(sheet, library)
    mics = edited(sheet, library)
    stems = stems_of(graph, wish, song="song", pieces=PIECES, edited=mics)
    engine = Engine(RATE, sheet.frames, TileCache())
    return print_song(engine, graph, stems, folder, tap=wish.tap, **more)


def read(folder: Path, name: str) -> np.ndarray:
    return sf.read(str(folder / name), dtype="float64")[0]


@pytest.mark.parametrize("file_format", ["wav24", "wav32f", "flac"])
def test_edited_stems_are_the_recording_but_for_moves_and_alignment(
    song: tuple[Sheet, Library], tmp_path: Path, file_format: str
) -> None:
    sheet = apply_patch(
        song[0],
        {
            "mics.kick_in.trim_db": 6,
            "mics.snare_top.trim_db": -6,
            "mics.snare_top.polarity": -1,
            "mics.kick_out.delay_samples": 100,
            "mics.overhead_l.mute": True,
            "mics.kick_in.clean.on": True,
        },
    )
    out = tmp_path / "out"
    report = printed(
        (sheet, song[1]), Wish(tap="edited", pattern="{name}"), out, file_format=file_format
    )
    ending = "flac" if file_format == "flac" else "wav"
    source = {mic: read(tmp_path, f"{mic}.wav") for mic in PIECES}
    made = {mic: read(out, f"{mic}.{ending}") for mic in PIECES}
    np.testing.assert_array_equal(made["kick_in"], source["kick_in"])
    np.testing.assert_array_equal(made["overhead_l"], source["overhead_l"])
    np.testing.assert_array_equal(made["snare_top"], -source["snare_top"])
    np.testing.assert_array_equal(made["kick_out"][100:], source["kick_out"][:-100])
    same = {stem.file for stem in report.stems if stem.is_recording}
    assert same == {f"kick_in.{ending}", f"overhead_l.{ending}"}
    assert report.null_db is None
    assert report.loudness_lufs is None


def test_cleaned_stems_are_trimmed_and_gated_and_nothing_more(
    song: tuple[Sheet, Library], tmp_path: Path
) -> None:
    gate = {"opens_on": "threshold", "on": True, "threshold_db": 0, "range_db": -40}
    sheet = apply_patch(
        song[0],
        {
            "mics.kick_in.trim_db": 6,
            "mics.kick_in.chain.s1": DRIVE,
            "mics.kick_in.fader_db": -12,
            **{f"mics.snare_top.clean.{key}": value for key, value in gate.items()},
        },
    )
    out = tmp_path / "out"
    printed((sheet, song[1]), Wish(tap="cleaned", pattern="{name}"), out, file_format="wav32f")
    louder = read(tmp_path, "kick_in.wav") * 10 ** (6 / 20)
    assert np.abs(read(out, "kick_in.wav") - louder).max() < 1e-6
    shut, snare = read(out, "snare_top.wav")[RATE:], read(tmp_path, "snare_top.wav")[RATE:]
    assert np.abs(shut).max() < 0.02 * np.abs(snare).max()


def test_pieces_sum_to_the_mix_with_what_shares_a_group_as_that_group(
    song: tuple[Sheet, Library], tmp_path: Path
) -> None:
    sheet = apply_patch(
        song[0],
        {"groups.kick.chain.s1": DRIVE, "buses.strike": {"sends": {"snare_top": {"db": 0}}}},
    )
    out = tmp_path / "out"
    report = printed((sheet, song[1]), Wish(["pieces", "returns"], pattern="{name}"), out)
    assert report.files == [
        "kick_piece.wav",
        "snare_piece.wav",
        "overhead_piece.wav",
        "strike_return.wav",
    ]
    assert report.null_db is not None
    assert report.null_db <= -110
    total = sum(read(out, name) for name in report.files)
    graph = build(sheet, song[1])
    target = Engine(RATE, sheet.frames, TileCache()).read(graph.sum, 0, sheet.frames)
    assert np.abs(total - target).max() < 1e-5


def test_what_is_in_a_stem_is_counted_once(song: tuple[Sheet, Library]) -> None:
    graph = build(*song)
    both = stems_of(graph, Wish(["mics", "pieces"]), song="song", pieces=PIECES)
    assert counted(both) == [True] * 4 + [False] * 3
    assert is_whole(both, graph)
    some = stems_of(graph, Wish(["mics"], left_out=["snare_top"]), song="song")
    assert [stem.name for stem in some] == ["kick_in", "kick_out", "overhead_l"]
    assert not is_whole(some, graph)
    assert stems_of(graph, Wish(only=["mix"]), song="song")[0].node is graph.output
    with pytest.raises(ArkundError, match="no stem “gong” among these"):
        stems_of(graph, Wish(only=["gong"]), song="song")
    with pytest.raises(ArkundError, match="Nothing is chosen"):
        stems_of(graph, Wish(["mics"], left_out=list(PIECES)), song="song")


def test_names_that_differ_in_capitals_alone_are_one_file(song: tuple[Sheet, Library]) -> None:
    graph = build(*song)
    twice = replace(graph, outs={**graph.outs, "KICK_IN": graph.outs["kick_in"]})
    with pytest.raises(ArkundError, match="Two channels would be printed as"):
        stems_of(twice, Wish(["mics"]), song="song")


def test_kinds_come_in_one_order_and_parallel_stands_for_two() -> None:
    assert Wish(["mix", "mics"]).kinds == ("mics", "mix")
    assert Wish(["mics", "groups", "parallel", "mix"]).kinds == USUAL
    assert Wish(USUAL, "edited").kinds == ("mics",)


@pytest.mark.parametrize(
    ("asked", "said"),
    [
        ({"kinds": ["roof"]}, "“roof” is not a kind of stem"),
        ({"kinds": []}, "Choose what to print: mics"),
        ({"tap": "later"}, "Taps are: edited, cleaned, shaped, bus"),
        ({"kinds": ["mix"], "tap": "cleaned"}, "only cleaned are of mics"),
        ({"pattern": "{mic}"}, "may have {song}, {name}"),
        ({"pattern": "{name!r}"}, "may have"),
        ({"pattern": "{name:>999}"}, "is no way to write {name}"),
        ({"pattern": "{n:999}"}, "is no way to write {n}"),
        ({"pattern": "a/b {n}"}, "cannot have “/”"),
        ({"pattern": "  "}, "1 to 120 characters"),
        ({"pattern": ".{n}"}, "nor ends with a dot"),
        ({"pattern": "{n" + "x" * 200}, "each { needs its }"),
    ],
)
def test_what_cannot_be_printed_is_refused(asked: dict[str, Any], said: str) -> None:
    with pytest.raises(ArkundError, match=said):
        Wish(**asked)


def test_a_name_has_what_its_pattern_asks() -> None:
    values = {"song": "slag-run", "name": "kick_in", "n": 3, "kind": "mic", "tap": "bus"}
    named = named_by("{n:02} {name} ({kind}, {tap}, r{revision:03})", revision=12, **values)
    assert named == "03 kick_in (mic, bus, r012)"
