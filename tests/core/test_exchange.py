"""MIDI and CSV: what is written comes back; what is no MIDI is refused."""

import csv
import io
import time
from pathlib import Path

import mido
import numpy as np
import pytest

from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import TICKS, note_of, read_tempo, write_midi
from arkund.core.exchange.tables import edits_csv, hits_csv
from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Change, Grid
from arkund.core.timing.moves import EditList, Move

GRID = Grid(104.0, 4, 4, 0.6, (Change(5, 111.5, 4, 4), Change(9, 96.0, 7, 8)))
HITS = [
    Hit("a", "kick", 0.6, 112, "accent", 1.0, 0.0),
    Hit("b", "snare", 3.33, 40, "ghost", 1.0, -14),
    Hit("c", "tom_2", 14.2, 127, "accent", 0.9, 2.0),
]


def test_the_tempo_map_comes_back_from_a_file(tmp_path: Path) -> None:
    write_midi(tmp_path / "x.mid", GRID, HITS)
    back = read_tempo(tmp_path / "x.mid", 0.6)
    assert [(c.bar, c.beats, c.unit) for c in back.changes] == [(5, 4, 4), (9, 7, 8)]
    for bar in (1, 4.5, 8, 20):
        assert back.bar_start_s(bar) == pytest.approx(GRID.bar_start_s(bar), abs=2e-4)


def test_hits_come_back_at_their_times_with_note_and_velocity(tmp_path: Path) -> None:
    write_midi(tmp_path / "x.mid", GRID, HITS)
    notes = played(tmp_path / "x.mid")
    assert [n[0] for n in notes] == pytest.approx([h.time_s for h in HITS], abs=0.0004)
    assert [n[1:] for n in notes] == [(note_of(h.piece), h.velocity) for h in HITS]


def played(path: Path) -> list[tuple[float, int, int]]:
    """What another player makes of a file: its notes as ``(time in s, note, velocity)``, by the file's own
    tempos from its first tick on. Written after the standard, without the library that wrote the file."""
    data = path.read_bytes()
    assert data[:4] == b"MThd"
    tracks, division = int.from_bytes(data[10:12]), int.from_bytes(data[12:14])
    at, events = 14, []
    for _ in range(tracks):
        assert data[at : at + 4] == b"MTrk"
        end = at + 8 + int.from_bytes(data[at + 4 : at + 8])
        at, tick, status = at + 8, 0, 0
        while at < end:
            wait, at = _number(data, at)
            tick += wait
            if data[at] >= 0x80:
                status, at = data[at], at + 1
            if status == 0xFF:
                kind = data[at]
                length, at = _number(data, at + 1)
                if kind == 0x51:
                    events.append((tick, 0, (int.from_bytes(data[at : at + length]),)))
                at += length
            else:
                if status >> 4 == 9 and data[at + 1] > 0:
                    events.append((tick, 1, (data[at], data[at + 1])))
                at += 2
    out, now_s, last, quarter_us = [], 0.0, 0, 500_000
    for tick, kind, values in sorted(events):
        now_s += (tick - last) * quarter_us / division / 1e6
        last = tick
        if kind == 0:
            quarter_us = values[0]
        else:
            out.append((now_s, *values))
    return out


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A quantity of variable length, and where what follows it begins."""
    value = 0
    while True:
        value = value << 7 | data[at] & 0x7F
        at += 1
        if data[at - 1] < 0x80:
            return value, at


@pytest.mark.parametrize("downbeat_s", [0.0, 0.002, 0.8, 7.3, 61.0, -0.4, -3.0])
def test_a_file_begins_with_the_audio_and_leaves_no_hit_out(
    tmp_path: Path, downbeat_s: float
) -> None:
    """Hits before bar 1 stay, and every note falls within a tick of its hit, to the end of a long song."""
    grid = Grid(103.7, 4, 4, downbeat_s, (Change(40, 131.3, 4, 4), Change(90, 77.9, 6, 8)))
    rng = np.random.default_rng(3)
    times = np.unique(np.round(np.concatenate([[0.0, 0.0015], rng.uniform(0, 400, 500)]), 6))
    hits = [Hit(str(n), "kick", float(t), 100, "plain", 0.9, 0.0) for n, t in enumerate(times)]
    write_midi(tmp_path / "x.mid", grid, hits)
    found = [n[0] for n in played(tmp_path / "x.mid")]
    tick_s = 60 / 77.9 / TICKS
    assert found == pytest.approx([h.time_s for h in hits], abs=tick_s)
    if downbeat_s >= 0:
        back = read_tempo(tmp_path / "x.mid", downbeat_s)
        assert [(c.bar, c.beats, c.unit) for c in back.changes] == [(40, 4, 4), (90, 6, 8)]
        for bar in (1, 2, 40, 95):
            assert back.bar_start_s(bar) == pytest.approx(grid.bar_start_s(bar), abs=2e-3)


def test_what_is_no_midi_file_is_refused_by_name(tmp_path: Path) -> None:
    bad = tmp_path / "song.mid"
    for content in (b"", b"RIFF....", b"MThd\x00\x00\x00\x06\x00\x01\x00\x05\x03\xc0MTrk"):
        bad.write_bytes(content)
        with pytest.raises(ArkundError, match=r"song\.mid"):
            read_tempo(bad)


def test_a_midi_file_without_tempo_is_refused(tmp_path: Path) -> None:
    file = mido.MidiFile()
    file.tracks.append(mido.MidiTrack([mido.Message("note_on", note=36)]))
    file.save(tmp_path / "x.mid")
    with pytest.raises(ArkundError, match="no tempo"):
        read_tempo(tmp_path / "x.mid")


def test_tables_hold_what_was_moved_and_only_that() -> None:
    edits = EditList(
        (
            Move("a", ("kick", "hat"), 100, 0.6, 0.612, "exact 1/16", -0.004),
            Move("b", ("snare",), 900, 3.33, 3.33, "exact 1/16"),
        ),
        {},
    )
    rows = list(csv.DictReader(io.StringIO(edits_csv(edits, GRID))))
    assert [
        (r["id"], r["pieces"], float(r["moved_ms"]), float(r["kick_alone_ms"])) for r in rows
    ] == [("a", "kick hat", 12.0, -4.0)]
    hits = list(csv.DictReader(io.StringIO(hits_csv(HITS, GRID))))
    assert [(h["piece"], h["place"]) for h in hits][:2] == [("kick", "1.1.00"), ("snare", "2.1.73")]


def _midi(path: Path, *messages: mido.MetaMessage) -> Path:
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    file.tracks.append(mido.MidiTrack(messages))
    file.save(path)
    return path


TEMPO = mido.MetaMessage("set_tempo", tempo=500_000)


@pytest.mark.parametrize(
    ("message", "said"),
    [
        (
            mido.MetaMessage("time_signature", numerator=33, denominator=8),
            "a meter of 33/8 in bar 1",
        ),
        (mido.MetaMessage("time_signature", numerator=4, denominator=1), "a meter of 4/1 in bar 1"),
        (mido.MetaMessage("time_signature", numerator=0, denominator=4), "a meter of 0/4 in bar 1"),
        (mido.MetaMessage("set_tempo", tempo=4_000_000), "has 15 BPM in bar 1"),
    ],
)
def test_a_tempo_map_that_no_song_can_have_is_refused(
    tmp_path: Path, message: mido.MetaMessage, said: str
) -> None:
    with pytest.raises(ArkundError, match=said):
        read_tempo(_midi(tmp_path / "x.mid", TEMPO, message))


def test_a_key_signature_that_is_none_is_refused_by_name(tmp_path: Path) -> None:
    path = _midi(tmp_path / "key.mid", TEMPO, mido.MetaMessage("key_signature", key="C"))
    content = path.read_bytes().replace(b"\xff\x59\x02\x00", b"\xff\x59\x02\x50")
    path.write_bytes(content)
    with pytest.raises(ArkundError, match=r"key\.mid is not a MIDI file that can be read"):
        read_tempo(path)


def test_thousands_of_tempo_changes_are_read_at_once(tmp_path: Path) -> None:
    changes = [
        mido.MetaMessage("set_tempo", tempo=400_000 + 10 * n, time=4 * TICKS) for n in range(8_000)
    ]
    path = _midi(tmp_path / "x.mid", *changes)
    began = time.process_time()
    grid = read_tempo(path)
    assert time.process_time() - began < 3.0  # 45 s when each change built the map anew
    # The first counts from bar 1, as nothing is set before it.
    assert [c.bar for c in grid.changes] == list(range(3, 8_002))
    assert grid.changes[-1].bpm == pytest.approx(60e6 / (400_000 + 10 * 7_999), abs=1e-3)


def test_a_tempo_map_too_large_is_not_read(tmp_path: Path) -> None:
    with (tmp_path / "x.mid").open("wb") as file:
        file.truncate(1_000_001)
    with pytest.raises(ArkundError, match="larger than 1 MB"):
        read_tempo(tmp_path / "x.mid")
