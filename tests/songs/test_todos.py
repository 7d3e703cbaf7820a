"""To-dos: noted with their place, ticked, refused where there is no such place."""

import json
from pathlib import Path

import pytest
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.songs import todos
from arkund.songs.models import Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def test_what_is_ticked_is_no_longer_open_and_can_come_back(song: Song) -> None:
    first = todos.add(song, "  that ring,\nlater ", "snare_top", 2)
    second = todos.add(song, "listen to the end")
    assert [(t.number, t.text) for t in todos.open_of(song)] == [
        (1, "that ring, later"),
        (2, "listen to the end"),
    ]
    todos.tick(song, first.number, done=True)
    assert todos.open_of(song) == [second]
    todos.tick(song, first.number, done=False)
    assert todos.open_of(song) == [first, second]


@pytest.mark.parametrize(
    ("noted", "said"),
    [
        (("",), "in 1 to 300 characters"),
        (("x" * 301,), "in 1 to 300 characters"),
        (("ring", "gong"), "no mic “gong”. There are: kick_in"),
        (("ring", "", 999), "999 is none of them"),
        (("ring", "", 0), "The song has bars 1 to"),
    ],
)
def test_what_has_no_words_or_no_place_is_refused(
    song: Song, noted: tuple[object, ...], said: str
) -> None:
    with pytest.raises(ArkundError, match=said):
        todos.add(song, *noted)  # type: ignore[arg-type]
    assert not song.todos.exists()


def test_a_tick_on_none_says_which_there_are(song: Song) -> None:
    todos.add(song, "that ring")
    with pytest.raises(ArkundError, match="no to-do 7"):
        todos.tick(song, 7, done=True)


def test_by_commands(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    def said(*words: str) -> list[dict[str, object]]:
        assert cli.main(["todo", song.slug, *words, "--json"]) == 0
        return json.loads(capsys.readouterr().out)["todos"]

    added = {"number": 1, "text": "that ring", "mic": "snare_top", "bar": 2}
    assert said("add", "that ring", "--at", "2", "--mic", "snare_top") == [added]
    assert said() == [added]
    assert said("done", "1") == []
    assert said("open", "1") == [added]
    assert cli.main(["todo", song.slug, "done", "one"]) == 1
    assert cli.main(["todo", song.slug, "add"]) == 1
    assert "Say what is to be done" in capsys.readouterr().err


def test_noted_on_a_page_and_listed_in_the_log(song: Song, client: Client) -> None:
    def sent(what: str, **asked: object) -> int:
        url = f"/{song.slug}/todo/{what}/"
        return client.post(url, json.dumps(asked), "application/json").status_code

    assert sent("add", text="<b>that ring</b>", mic="snare_top", bar=2) == 200
    page = client.get(f"/{song.slug}/log/").content.decode()
    assert "&lt;b&gt;that ring&lt;/b&gt;" in page
    assert f"/{song.slug}/edit/?mic=snare_top&amp;bars=2-2" in page
    assert sent("tick", number=1, done=True) == 200
    assert todos.open_of(song) == []
    assert sent("add", text="", bar=2) == 400
    assert sent("add", text="x", bar="two") == 400
    assert sent("tick", number=9, done=True) == 400
