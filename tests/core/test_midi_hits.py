"""Hits of MIDI files: which drum a note is, where the file lies, what is known of it already."""

from pathlib import Path

import mido
import numpy as np
import pytest

from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import write_midi
from arkund.core.exchange.midi_hits import Note, piece_of_note, read_map, read_notes, rows_of
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.timing.grid import Grid

KIT = ["kick", "snare", "hat", "tom_1", "tom_2", "crash_1"]


def hit(piece: str, time_s: float, velocity: int = 90) -> Hit:
    return Hit(hit_id(piece, time_s), piece, time_s, velocity, "plain", 1.0, 0.0)


def played(seed: int = 1) -> list[Hit]:
    """Forty hits of kick and snare, none at regular times."""
    rng = np.random.default_rng(seed)
    at = np.cumsum(rng.uniform(0.2, 0.7, 40))
    return [hit(("kick", "snare")[n % 2], round(float(t), 6)) for n, t in enumerate(at)]


def notes(hits: list[Hit], begins_s: float = 0.0) -> list[Note]:
    numbers = {"kick": 36, "snare": 38}
    return [Note(h.time_s - begins_s, numbers[h.piece], 77) for h in hits]


def test_what_was_written_is_read_by_its_own_tempo(tmp_path: Path) -> None:
    path = tmp_path / "hits.mid"
    grid = Grid(bpm=97.3, beats=7, unit=8, first_downbeat_s=1.234)
    write_midi(path, grid, played())
    read = read_notes(path)
    assert len(read) == 40
    apart = [note.time_s - h.time_s for note, h in zip(read, played(), strict=True)]
    assert np.abs(apart).max() < 0.001
    assert {note.velocity for note in read} == {90}


def test_only_the_drum_channel_is_read_where_it_has_notes(tmp_path: Path) -> None:
    file = mido.MidiFile()
    track = mido.MidiTrack()
    file.tracks.append(track)
    track.append(mido.Message("note_on", channel=0, note=60, velocity=80, time=0))
    track.append(mido.Message("note_on", channel=9, note=38, velocity=80, time=480))
    track.append(mido.Message("note_on", channel=9, note=38, velocity=0, time=480))
    file.save(tmp_path / "a.mid")
    assert [(n.number, n.time_s) for n in read_notes(tmp_path / "a.mid")] == [(38, 0.5)]


@pytest.mark.parametrize(
    ("number", "piece"),
    [
        (36, "kick"),
        (40, "snare"),
        (46, "hat"),
        (50, "tom_1"),
        (48, "tom_1"),
        (45, "tom_2"),
        (41, "tom_2"),
        (57, "crash_1"),
        (51, None),
        (60, None),
    ],
)
def test_a_note_is_a_drum_of_the_kit(number: int, piece: str | None) -> None:
    assert piece_of_note(number, KIT) == piece


@pytest.mark.parametrize("begins_s", [0.0, 2.5, -1.25])
def test_where_the_file_begins_is_found_by_the_hits(begins_s: float) -> None:
    heard = played()
    rows = rows_of(notes(heard, begins_s), heard, KIT)
    assert [row.id for row in rows] == [h.id for h in heard]
    # A note within 5 ms of its hit says nothing of where that lies.
    assert [row.time_s for row in rows] == [h.time_s for h in heard]
    assert {row.velocity for row in rows} == {77}


def test_a_note_is_the_hit_that_it_lies_on_and_no_other() -> None:
    heard = played()
    told = notes(heard)
    told[3] = Note(told[3].time_s + 0.015, 38, 50)  # moved
    told[5] = Note(told[5].time_s, 36, 50)  # another drum
    told.insert(8, Note(told[7].time_s + 0.01, 38, 50))  # a second one beside a hit
    rows = rows_of(told, heard, KIT, begins_s=0.0)
    assert rows[3].id == heard[3].id
    assert rows[3].time_s == pytest.approx(heard[3].time_s + 0.015)
    assert rows[5].id == ""
    assert (rows[7].id, rows[8].id) == (heard[7].id, "")


def test_notes_are_named_or_left_out() -> None:
    heard = played()
    told = [*notes(heard), Note(1.0, 60, 90)]
    with pytest.raises(ArkundError, match="Note 60 is no drum of this kit"):
        rows_of(told, heard, KIT)
    assert len(rows_of(told, heard, KIT, {60: ""})) == 40
    named = rows_of(told, heard, KIT, read_map("60 = tom 1, 38=snare"))
    assert named[-1].piece == "tom_1"
    with pytest.raises(ArkundError, match="The kit has no gong"):
        rows_of(told, heard, KIT, {60: "gong"})
    for wrong in ("snare", "x=snare", "128=snare"):
        with pytest.raises(ArkundError, match="is no note and drum"):
            read_map(wrong)


def test_notes_of_another_song_fit_nowhere() -> None:
    with pytest.raises(ArkundError, match="fit the recording nowhere"):
        rows_of(notes(played(2)), played(1), KIT)


@pytest.mark.parametrize("content", [b"", b"MThd", b"MThd" + bytes(40), bytes(200)])
def test_what_is_no_midi_is_refused(tmp_path: Path, content: bytes) -> None:
    path = tmp_path / "a.mid"
    path.write_bytes(content)
    with pytest.raises(ArkundError):
        read_notes(path)
