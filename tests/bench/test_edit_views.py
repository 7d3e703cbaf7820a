"""The Edit station's picture and what it asks for: hits, moves, lists, copies."""

import csv
import io
import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import Client

from arkund.songs import revisions
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db(transaction=True)
RULE = {"start_bar": 1, "bars": 4, "school": "exact", "division": "1/4"}


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    """Hits every half second, bar 1 told to begin 15 ms before the first."""
    made = small_song(tmp_path / "in", takes=2)
    made.refresh_from_db()
    first = min(h.time_s for h in hits_of(sheet_of(made)))
    revisions.keep(made.pk, 1, {"tempo.first_downbeat_s": round(first - 0.015, 6)})
    made.refresh_from_db()
    return made


@pytest.fixture
def client() -> Client:
    return Client(headers={"host": "127.0.0.1"})


def _picture(client: Client, song: Song, **patch: Any) -> dict[str, Any]:
    query = {"mic": "snare_top", "bars": "1-4"} | (
        {"patch": json.dumps({k.replace("__", "."): v for k, v in patch.items()})} if patch else {}
    )
    found: dict[str, Any] = client.get(f"/{song.slug}/picture/edit/", query).json()
    return found


def _post(client: Client, song: Song, part: str, data: dict[str, Any]) -> tuple[int, dict]:
    song.refresh_from_db()
    assert song.current is not None
    text = json.dumps({"base": song.current.number} | data)
    answer = client.post(f"/{song.slug}/{part}/", text, content_type="application/json")
    return answer.status_code, answer.json()


def _refusal(answer: tuple[int, dict]) -> str:
    status, said = answer
    assert status == 400
    return str(said["error"])


def test_the_picture_shows_each_hit_late_of_its_line(client: Client, song: Song) -> None:
    shown = _picture(client, song)
    assert len(shown["hits"]) == len(hits_of(sheet_of(song))) >= 14
    assert np.median([h["late_ms"] for h in shown["hits"]]) == pytest.approx(15, abs=1)
    assert shown["edits"] == []
    by_piece = {p["piece"]: p for p in shown["placement"]}
    assert set(by_piece) == {"kick", "snare"}
    assert by_piece["snare"]["middle_ms"] == pytest.approx(15, abs=1)
    assert by_piece["snare"]["spread_ms"] < 1
    assert sum(sum(bins) for bins in by_piece["snare"]["counts"]) == by_piece["snare"]["hits"]


def test_a_rule_tried_is_drawn_and_stores_nothing(client: Client, song: Song) -> None:
    count = song.revisions.count()
    tried = _picture(client, song, timing__rules=[RULE])
    assert len(tried["edits"]) >= 14
    assert np.abs([h["late_ms"] for h in tried["hits"]]).max() < 0.5
    moved = [h["moved_ms"] for h in tried["hits"] if "moved_ms" in h]
    assert np.median(moved) == pytest.approx(-15, abs=1)
    assert "exact 1/4" in tried["edits"][0]["words"]
    assert song.revisions.count() == count
    assert _picture(client, song)["edits"] == []


def test_a_rule_of_some_bars_moves_hits_of_those_alone(client: Client, song: Song) -> None:
    tried = _picture(client, song, timing__rules=[RULE | {"start_bar": 2, "bars": 1}])
    bars = {e["bar"] for e in tried["edits"]}
    assert bars == {2}
    late = {round(h["t"], 2): h["late_ms"] for h in tried["hits"]}
    assert sum(abs(ms) < 0.5 for ms in late.values()) == len(tried["edits"])


def test_hits_are_taken_out_added_and_called_otherwise(client: Client, song: Song) -> None:
    before = _picture(client, song)["hits"]
    gone = next(h for h in before if h["piece"] == "snare")
    assert _post(client, song, "hits", {"ids": [gone["id"]], "change": {"gone": True}})[0] == 200
    left = _picture(client, song)["hits"]
    assert len(left) == len(before) - 1
    assert gone["id"] not in {h["id"] for h in left}

    added = _post(client, song, "hits", {"piece": "snare", "at_s": gone["t"] + 0.004})
    assert added[0] == 200
    back = [h for h in _picture(client, song)["hits"] if abs(h["t"] - gone["t"]) < 0.002]
    assert [h["piece"] for h in back] == ["snare"], "refined to the first arrival nearby"

    other = back[0]["id"]
    _post(client, song, "hits", {"ids": [other], "change": {"kind": "ghost"}})
    _post(client, song, "hits", {"ids": [other], "change": {"nudge_s": 0.001}})
    now = next(h for h in _picture(client, song)["hits"] if h["id"] == other)
    assert now["kind"] == "ghost"
    assert now["t"] == pytest.approx(back[0]["t"] + 0.001, abs=1e-4)


def test_a_hit_dragged_is_drawn_to_its_line_unless_told_not(client: Client, song: Song) -> None:
    hit = _picture(client, song)["hits"][4]
    _post(client, song, "move", {"id": hit["id"], "to_s": hit["t"] - 0.010})
    assert next(h for h in _picture(client, song)["hits"] if h["id"] == hit["id"])[
        "late_ms"
    ] == pytest.approx(0, abs=0.1)
    _post(client, song, "move", {"id": hit["id"], "to_s": hit["t"] - 0.010, "free": True})
    free = next(h for h in _picture(client, song)["hits"] if h["id"] == hit["id"])
    assert free["late_ms"] == pytest.approx(hit["late_ms"] - 10, abs=0.3)


def test_the_edit_list_comes_as_a_table(client: Client, song: Song) -> None:
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, {"timing.rules": [RULE]})
    answer = client.get(f"/{song.slug}/edits.csv")
    assert "attachment" in answer["Content-Disposition"]
    rows = list(csv.DictReader(io.StringIO(answer.content.decode())))
    assert len(rows) >= 14
    ways = [float(r["moved_ms"]) for r in rows]
    assert np.median(ways) == pytest.approx(-15, abs=1)
    for row in rows:
        way = (float(row["to_s"]) - float(row["from_s"])) * 1000
        assert way == pytest.approx(float(row["moved_ms"]), abs=0.02)
        assert row["rule"] == "exact 1/4"


def test_a_copied_hit_sounds_in_place_of_another(client: Client, song: Song) -> None:
    snares = [h for h in _picture(client, song)["hits"] if h["piece"] == "snare"]
    status, _ = _post(client, song, "copy", {"id": snares[0]["id"], "over": snares[2]["id"]})
    assert status == 200
    (copied,) = sheet_of(_again(song)).copies
    assert copied.take == 1
    assert len(_picture(client, song)["hits"]) == len(hits_of(sheet_of(_again(song))))


def _again(song: Song) -> Song:
    song.refresh_from_db()
    return song


@pytest.mark.parametrize(
    ("part", "data", "says"),
    [
        ("hits", {"ids": "all", "change": {}}, "Choose hits"),
        ("hits", {"piece": "snare", "at_s": "soon"}, "Choose hits"),
        ("move", {"id": "nothing", "to_s": 1.0}, "not in the hit list"),
        ("move", {"id": "nothing"}, "A move needs a hit"),
        ("move", {"id": "nothing", "middle": True}, "No two hits fall apart there"),
        ("copy", {"take": 1, "first": "one"}, "whole numbers"),
        ("copy", {"id": "nothing"}, "Choose the hit that is to be replaced"),
    ],
)
def test_what_makes_no_sense_is_refused_with_a_sentence(
    client: Client, song: Song, part: str, data: dict[str, Any], says: str
) -> None:
    count = song.revisions.count()
    assert says in _refusal(_post(client, song, part, data))
    assert song.revisions.count() == count


def test_a_change_from_an_old_revision_is_a_conflict(client: Client, song: Song) -> None:
    hit = _picture(client, song)["hits"][0]
    text = json.dumps({"base": 1, "id": hit["id"], "to_s": hit["t"] + 0.02})
    answer = client.post(f"/{song.slug}/move/", text, content_type="application/json")
    assert answer.status_code == 409
    assert "changed elsewhere" in answer.json()["error"]
