"""The hit list as a table: out, changed, and in again."""

import csv
import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import mido
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import write_midi
from arkund.core.sheet.tempo import grid_of
from arkund.songs import exports, revisions, snapshots
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of

pytestmark = pytest.mark.django_db(transaction=True)


def _table(song: Song, path: Path) -> list[dict[str, str]]:
    assert cli.main(["export", song.slug, "csv", "-o", str(path), "--json"]) == 0
    with path.open() as lines:
        return list(csv.DictReader(lines))


def _write(path: Path, rows: list[dict[str, str]]) -> None:
    with path.open("w", newline="") as out:
        writer = csv.DictWriter(out, rows[0].keys())
        writer.writeheader()
        writer.writerows(rows)


def test_a_list_of_hits_goes_out_and_comes_back(song: Song, tmp_path: Path) -> None:
    path = tmp_path / "hits.csv"
    rows = _table(song, path)
    asked = ["import-hits", song.slug, str(path), "--json"]
    assert cli.main(asked) == 1, "nothing differs"
    changed = [dict(r) for r in rows]
    changed[1]["time_s"] = f"{float(rows[1]['time_s']) + 0.004:.6f}"
    changed[2] |= {"velocity": "33", "kind": "ghost"}
    gone = changed.pop(4)
    new = {**rows[0], "id": "", "time_s": "7.250000", "velocity": "", "kind": "plain"}
    _write(path, [*changed, new])
    assert cli.main(asked) == 0
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.label.endswith("2 changed, 1 added, 1 removed")
    after = {r["id"]: r for r in _table(song, tmp_path / "again.csv")}
    assert gone["id"] not in after
    assert after[rows[1]["id"]]["time_s"] == changed[1]["time_s"]
    assert (after[rows[2]["id"]]["velocity"], after[rows[2]["id"]]["kind"]) == ("33", "ghost")
    assert sum(r["time_s"] == "7.250000" for r in after.values()) == 1
    same = {k for k in after if k in {r["id"] for r in rows[5:]}}
    assert all(after[k] == next(r for r in rows if r["id"] == k) for k in same)


def test_copied_hits_in_a_table_are_not_added_again(song: Song, tmp_path: Path) -> None:
    assert song.current is not None
    copy = {"take": 1, "at": 200_000, "frames": 48_000, "source": 20_000}
    revisions.keep(song.pk, song.current.number, {"copies": [copy]})
    rows = _table(song, tmp_path / "hits.csv")
    assert any("-" in r["id"] for r in rows)
    assert cli.main(["import-hits", song.slug, str(tmp_path / "hits.csv")]) == 1, "nothing differs"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no column “piece”"),
        ("piece,time_s\n", "lists no hits"),
        ("piece,time_s\nsnare,soon\n", "Line 2: time and velocity are numbers"),
        ("piece,time_s\nsnare,nan\n", "Line 2: a hit's time"),
        ("piece,time_s\nsnare,900\n", "outside the song"),
        ("piece,time_s\ncowbell,1\n", "The kit has no cowbell"),
        ("piece,time_s\n../etc,1\n", "no piece of a kit"),
        ("piece,time_s,velocity\nsnare,1,400\n", "velocity goes from 1 to 127"),
        ("piece,time_s,kind\nsnare,1,smash\n", "no kind of hit"),
    ],
)
def test_a_table_that_is_none_is_refused_in_words(
    song: Song, tmp_path: Path, text: str, words: str, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "hits.csv"
    path.write_text(text)
    assert cli.main(["import-hits", song.slug, str(path)]) == 1
    assert words in capsys.readouterr().err
    path.write_bytes(b"\xff\xfe\x00piece")
    assert cli.main(["import-hits", song.slug, str(path)]) == 1


def test_more_hits_than_anybody_plays_are_refused(song: Song, tmp_path: Path) -> None:
    table = tmp_path / "hits.csv"
    rows = "\n".join(f"kick,{n / 100:.3f}" for n in range(400))
    table.write_text(f"piece,time_s\n{rows}")
    with pytest.raises(ArkundError, match=r"lists 400 hits; a song of 8 s has 360 at most"):
        exports.import_hits(song, table)
    table.write_text("id,piece,time_s\na,kick,1.0\nb,kick,2.0\na,snare,3.0")
    with pytest.raises(ArkundError, match="Lines 2 and 4 of the file both name the hit a"):
        exports.import_hits(song, table)


def test_a_list_of_hits_comes_back_as_midi_wherever_its_file_begins(
    song: Song, tmp_path: Path, client: Client
) -> None:
    path = tmp_path / "hits.mid"
    grid, heard = grid_of(sheet_of(song)), hits_of(sheet_of(song))
    late = [replace(h, time_s=h.time_s + 1.5, velocity=64) for h in heard if h.id != heard[3].id]
    write_midi(path, grid, late)
    told = {"hits": SimpleUploadedFile("Mine.mid", path.read_bytes()), "base": "1"}
    answer = client.post(f"/{song.slug}/edit/from-file/", told)
    assert answer.status_code == 200, answer.content
    song.refresh_from_db()
    assert song.current is not None
    assert "Hits from Mine.mid" in song.current.label
    assert song.current.label.endswith(f"{len(heard) - 1} changed, 1 removed")
    after = hits_of(sheet_of(song))
    known = {h.id: h.time_s for h in heard}
    assert [h.time_s for h in after] == [known[h.id] for h in after]
    assert {h.velocity for h in after} == {64}
    for wrong, said in (
        ({}, "Choose a CSV or MIDI file"),
        ({"begins": "soon"}, "no number of seconds"),
        ({"map": "snare"}, "no note and drum"),
        ({"base": "x"}, "revision it starts from"),
    ):
        sent = {"hits": SimpleUploadedFile("a.mid", path.read_bytes()), "base": "2"} | wrong
        answer = client.post(f"/{song.slug}/edit/from-file/", sent if wrong else {"base": "2"})
        assert answer.status_code == 400
        assert said in answer.json()["error"]


def test_the_notes_of_a_file_are_shown_with_the_drums_they_are_taken_for(
    song: Song, tmp_path: Path, client: Client
) -> None:
    path = tmp_path / "hits.mid"
    file = mido.MidiFile()
    track = mido.MidiTrack()
    file.tracks.append(track)
    for note in (36, 38, 36, 81):
        track.append(mido.Message("note_on", channel=9, note=note, velocity=80, time=240))
    file.save(path)

    def ask(name: str, content: bytes) -> dict[str, Any]:
        sent = {"hits": SimpleUploadedFile(name, content)}
        answer = client.post(f"/{song.slug}/edit/notes-in-file/", sent)
        found: dict[str, Any] = answer.json() | {"status": answer.status_code}
        return found

    found = ask("Mine.mid", path.read_bytes())
    assert found["notes"] == [
        {"number": 36, "times": 2, "piece": "kick"},
        {"number": 38, "times": 1, "piece": "snare"},
        {"number": 81, "times": 1, "piece": None},
    ]
    assert ["snare", "snare"] in found["pieces"]
    assert ask("mine.csv", b"piece,time_s\nkick,1.0")["notes"] == []
    broken = ask("mine.mid", b"MThd nothing")
    assert broken["status"] == 400
    assert "is not a MIDI file that can be read" in broken["error"]


def test_two_revisions_are_compared_by_command(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    revisions.keep(song.pk, 1, {"mics.snare_top.trim_db": 3})
    assert cli.main(["compare", song.slug, "1", "--json"]) == 0
    found = json.loads(capsys.readouterr().out)["differences"]
    said = {"whose": "snare top", "what": "trim", "a": "0 dB", "b": "3 dB"}
    made_by = {"path": "mics.snare_top.trim_db", "revision": 2, "by": "hand"}
    assert found == [said | made_by]
    snapshots.name_present(Song.objects.get(pk=song.pk), "hotter")
    assert cli.main(["compare", song.slug, "1", "hotter", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["differences"] == found
    assert cli.main(["compare", song.slug, "1", "9"]) == 1
    assert "There are 1 to 2" in capsys.readouterr().err
