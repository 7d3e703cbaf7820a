"""Choosing takes: the grid, a path, its joins, and what is refused."""

from pathlib import Path

import numpy as np
import pytest
from django.test import Client

from arkund.songs import rendering, timing
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from tests.making import RATE, small_song

pytestmark = pytest.mark.django_db(transaction=True)
JSON = "application/json"


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in", takes=3)


@pytest.fixture
def client() -> Client:
    return Client(headers={"host": "127.0.0.1"})


def _grid(client: Client, song: Song) -> dict:
    found: dict = client.get(f"/{song.slug}/picture/takes/").json()
    return found


def test_the_grid_scores_every_take_in_every_section(client: Client, song: Song) -> None:
    grid = _grid(client, song)
    assert [p["name"] for p in grid["parts"]] == ["verse", "out"]
    assert grid["takes"] == [1, 2, 3]
    assert grid["chosen"] == [1, 1]
    dropped = next(c for c in grid["cells"][1] if c["take"] == 2)
    assert dropped["missing"] == 1
    assert "snare dropped" in dropped["reason"]
    assert 2 not in grid["proposed"][1:]


def test_a_path_is_kept_with_its_join_and_heard(client: Client, song: Song) -> None:
    made = client.post(f"/{song.slug}/comp/", {"path": [1, 3], "base": 1}, JSON).json()
    assert made["label"] == "Takes chosen: verse 1, out 3"
    first, second = made["sheet"]["comp"]
    assert (first["take"], first["at"], second["take"]) == (1, 0, 3)
    # Just before the kick at bar 3, which begins four and a quarter seconds in.
    assert 4.25 * RATE - 2000 < second["at"] < 4.25 * RATE
    grid = _grid(client, song)
    assert grid["chosen"] == [1, 3]
    assert grid["joins"][0]["hidden_by"] == "kick"
    song.refresh_from_db()
    sheet = timing.sheet_of(song)
    joined = rendering.render_span(sheet, "output", "recorded", 0, sheet.frames)
    alone = {
        n: rendering.render_span(
            timing.sheet_of(song, patch={"comp": [{"take": n, "at": 0}]}),
            "output",
            "recorded",
            0,
            sheet.frames,
        )
        for n in (1, 3)
    }
    at = second["at"]
    assert np.array_equal(joined[: at - 200], alone[1][: at - 200])
    assert np.array_equal(joined[at:], alone[3][at:])
    assert len(hits_of(sheet)) == 16


def test_back_to_one_take_is_no_comp(client: Client, song: Song) -> None:
    client.post(f"/{song.slug}/comp/", {"path": [1, 3], "base": 1}, JSON)
    made = client.post(f"/{song.slug}/comp/", {"path": [1, 1], "base": 2}, JSON).json()
    assert made["sheet"]["comp"] == []


@pytest.mark.parametrize(
    ("body", "status", "words"),
    [
        ({"path": [1], "base": 1}, 400, "2 sections"),
        ({"path": [1, 9], "base": 1}, 400, "no take 9"),
        ({"path": [1, "x"], "base": 1}, 400, "one take for each"),
        ({"base": 1}, 400, "one take for each"),
        ({"path": [1, 3], "base": 0}, 409, "changed elsewhere"),
    ],
)
def test_paths_that_do_not_fit_are_refused(
    client: Client, song: Song, body: dict, status: int, words: str
) -> None:
    answer = client.post(f"/{song.slug}/comp/", body, JSON)
    assert answer.status_code == status
    assert words in answer.json()["error"]


def test_stations_work_on_joined_takes(client: Client, song: Song) -> None:
    client.post(f"/{song.slug}/comp/", {"path": [3, 1], "base": 1}, JSON)
    for station in ("edit", "align", "level", "clean", "eq", "dynamics", "bus"):
        assert client.get(f"/{song.slug}/picture/{station}/?mic=snare_top").status_code == 200
    lanes = client.get(f"/{song.slug}/lanes/?start=0&frames=48000&columns=50&mics=snare_top")
    assert len(lanes.content) == 50 * 2 * 2
    assert "takes joined" in client.get(f"/{song.slug}/edit/").content.decode()
