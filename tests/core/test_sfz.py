"""SFZ both ways, kit files, and which hit stands in for which."""

import contextlib
import time
from pathlib import Path

import numpy as np
import pytest

from arkund.core.errors import ArkundError
from arkund.core.exchange.sfz import (
    LARGEST_BYTES,
    Region,
    read_sfz,
    read_sfz_file,
    sample_path,
    write_sfz,
)
from arkund.core.hits.hit import Hit
from arkund.core.replace.harvest import HEAD_S
from arkund.core.replace.kit import kit_of, onset_of
from arkund.core.replace.matching import matches

RATE = 48000
KIT = [
    Region("kick_1.wav", 36, 36, 1, 80, 1, 2),
    Region("kick_2.wav", 36, 36, 1, 80, 2, 2, volume_db=-3.5, tune_cents=25),
    Region("snare loud.wav", 38, 40, 81, 127, offset=12, end=4000),
]


def test_a_kit_comes_back_as_it_was_written() -> None:
    assert read_sfz(write_sfz(KIT)) == (KIT, [])
    late = [Region("song.wav", offset=1_234_567, end=1_240_001)]  # half a minute into a file
    assert read_sfz(write_sfz(late)) == (late, [])


def test_what_is_not_read_is_listed_and_not_guessed() -> None:
    text = """// kit by hand
    <control> default_path=wet\\ note_offset=3
    <global> volume=-6 <group> key=d2 cutoff=300 /* no
    such */ <region> sample=a b.wav lovel=10 transpose=-1 tune=20
    <region> sample=c.wav lokey=c2 hikey=36 key=36 <effect> bus=x"""
    regions, unknown = read_sfz(text)
    assert [r.sample for r in regions] == ["wet/a b.wav", "wet/c.wav"]
    assert (regions[0].low_key, regions[0].high_key, regions[0].low_velocity) == (38, 38, 10)
    assert (regions[0].volume_db, regions[0].tune_cents) == (-6, -80)
    assert regions[1].low_key == 36
    assert set(unknown) == {"note_offset", "cutoff", "<effect>", "bus"}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "no region"),
        ("<group> volume=3", "no region"),
        ("<region> lovel=3", "names no sample"),
        ("<region> sample=a.wav volume=loud", "is no number"),
        ("<region> sample=a.wav volume=nan", r"volume of nan; -60 to 24"),
        ("<region> sample=a.wav volume=6000", r"Region 1 .*line 1.* volume of 6000; -60 to 24"),
        ("\n/* a\nb */\n<region> sample=a.wav tune=-18000", r"line 4.* tuning .* -18000; -2400 to"),
        ("<region> sample=a.wav transpose=25", r"tuning in cents of 2500"),
        ("<region> sample=a.wav seq_length=1e9", r"seq_length of 1e\+09; 1 to 100"),
        ("<region> sample=a.wav key=h9", "is no note"),
        ("<region> sample=a.wav offset=1e300", "offset of 1e\\+300"),
        ("<region> sample=a.wav\n" * 5000, "more than 256 regions"),
    ],
)
def test_a_kit_that_is_none_is_refused_in_a_sentence(text: str, said: str) -> None:
    with pytest.raises(ArkundError, match=said):
        read_sfz(text)


@pytest.mark.parametrize(
    "piece",
    ["/* ", "a", " ", "=a", "a=b ", "<", "<region>", "//\n", "/* */", "<region> sample=a "],
)
def test_the_time_to_read_a_kit_grows_with_its_length_alone(piece: str) -> None:
    def taken(length: int) -> float:
        text, began = piece * (length // len(piece)), time.process_time()
        with contextlib.suppress(ArkundError):
            read_sfz(text)
        return time.process_time() - began

    # A quadratic scanner took 15 s for 90 kB.
    assert taken(LARGEST_BYTES) < 2.0


def test_a_kit_file_too_large_is_not_read(tmp_path: Path) -> None:
    path = tmp_path / "kit.sfz"
    with path.open("wb") as file:
        file.truncate(LARGEST_BYTES + 1)
    with pytest.raises(ArkundError, match=r"kit\.sfz is larger than 1 MB"):
        read_sfz_file(path)
    with pytest.raises(ArkundError, match="There is no file"):
        read_sfz_file(tmp_path)


@pytest.mark.parametrize("name", ["a\0.wav", "x" * 5000, "x" * 300])
def test_a_sample_with_an_impossible_name_is_refused(tmp_path: Path, name: str) -> None:
    with pytest.raises(ArkundError, match=r"no name of a file|is not there"):
        sample_path(tmp_path / "kit.sfz", Region(name))


@pytest.mark.parametrize(
    "name", ["../secret.wav", "/etc/passwd", "a/../../b.wav", "C:/x.wav", "gone.wav", "link.wav"]
)
def test_a_sample_lies_in_its_kit_s_own_folder(tmp_path: Path, name: str) -> None:
    folder = tmp_path / "kit"
    folder.mkdir()
    (tmp_path / "secret.wav").write_bytes(b"x")
    (folder / "link.wav").symlink_to(tmp_path / "secret.wav")
    with pytest.raises(ArkundError, match=r"not in its own folder|is not there"):
        sample_path(folder / "kit.sfz", Region(name))
    (folder / "here.wav").write_bytes(b"x")
    assert sample_path(folder / "kit.sfz", Region("here.wav")) == (folder / "here.wav").resolve()


def test_names_that_would_not_come_back_are_not_written() -> None:
    for name in ("a=b.wav", "a//b.wav", " a.wav"):
        with pytest.raises(ValueError, match="cannot stand"):
            write_sfz([Region(name)])


def test_a_kit_file_has_each_hit_at_its_head() -> None:
    rng = np.random.default_rng(3)
    hits = []
    for lead in (0, 20, 5000):
        decay = np.exp(-np.arange(9000) / 2000)
        sound = (rng.standard_normal(9000) * decay).astype(np.float32)
        hits.append(np.concatenate([np.zeros(lead, np.float32), sound]))
    kit = kit_of([*hits, np.zeros(500, np.float32)], RATE)
    assert len(kit.samples) == 3
    head = round(HEAD_S * RATE)
    for at, frames in kit.samples:
        own = kit.sound[at : at + frames]
        assert abs((onset_of(own) or 0) - head) <= 2
        assert frames == head + 9000 - ((onset_of(own) or 0) - head)
    with pytest.raises(ValueError, match="nothing is heard"):
        kit_of([np.zeros(100, np.float32)], RATE)


def _hit(
    name: str,
    at: float,
    piece: str = "snare",
    velocity: int = 100,
    kind: str = "accent",
    sure: float = 1.0,
) -> Hit:
    return Hit(name, piece, at, velocity, kind, sure, 0.0)


def test_the_hit_that_is_most_alike_stands_in() -> None:
    hits = [
        _hit("bad", 10.0, kind="flam"),
        _hit("hat", 10.003, "hat"),
        _hit("alone", 1.0),
        _hit("same", 2.0, velocity=98),
        _hit("hat2", 2.002, "hat"),
        _hit("soft", 3.0, velocity=40),
        _hit("hat3", 3.001, "hat"),
        _hit("flam", 4.0, kind="flam"),
        _hit("doubtful", 5.0, sure=0.4),
        _hit("kick", 6.0, "kick"),
        _hit("crash", 7.0, "crash_1"),
        _hit("under", 7.5),
        _hit("hat4", 7.501, "hat"),
        _hit("short", 8.6),
        _hit("hat5", 8.601, "hat"),
        _hit("next", 8.7, "tom_1"),
    ]
    found = matches(hits[0], hits)
    assert found[0].hit.id == "same"
    by_id = {m.hit.id: m for m in found}
    assert set(by_id) == {"same", "alone", "soft", "under", "short"}
    assert by_id["same"].distance == pytest.approx(0.1)
    assert "hat along in both" in by_id["same"].reasons
    assert "nothing along, hat there" in by_id["alone"].reasons
    assert "crash 1 ringing, none there" in by_id["under"].reasons
    assert any("shorter until the next hit" in r for r in by_id["short"].reasons)
