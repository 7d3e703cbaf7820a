"""The hit list as a table: out, changed, and in again."""

import csv
from pathlib import Path

import pytest

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.songs import exports, revisions
from arkund.songs.models import Song

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
