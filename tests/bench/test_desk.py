"""The desk: every song with its kit, sections, stations and to-dos; the demo from an empty one."""

import re
from pathlib import Path

import pytest
from django.test import Client

from arkund.bench.desk import STRIP, desk
from arkund.bench.history import figure_words
from arkund.songs import jobs, revisions, todos
from arkund.songs.demo import DEMO_SLUG
from arkund.songs.models import Job, Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def test_a_song_has_its_drums_sections_stations_and_what_is_to_do(
    song: Song, client: Client
) -> None:
    sections = [
        {"name": "verse", "start_bar": 1, "bars": 1},
        {"name": "chorus", "start_bar": 2, "bars": 1},
        {"name": "verse", "start_bar": 3, "bars": 99},
    ]
    revisions.keep(song.pk, 1, {"sections": sections}, station="sections")
    revisions.keep(song.pk, 2, {"mics.snare_top.trim_db": 1}, station="level")
    todos.tick(song, todos.add(song, "done").number, done=True)
    todos.add(song, "that ring")
    (entry,) = desk()["songs"]
    assert [p["piece"] for p in entry["kit"]] == ["kick", "snare"]
    assert [s["name"] for s in entry["sections"]] == ["verse", "chorus", "verse"]
    assert [s["shade"] for s in entry["sections"]] == [0, 1, 0]
    last = entry["sections"][-1]
    assert last["x"] + last["width"] == pytest.approx(STRIP)
    done = {s["slug"]: s["count"] for s in entry["stations"] if s["count"]}
    assert done == {"load-in": 1, "sections": 1, "level": 1}
    assert entry["to_do"] == 1
    page = client.get("/").content.decode()
    assert "1 to do" in page
    assert 'aria-label="Sections: verse, chorus, verse"' in page


def test_many_songs_are_counted_in_as_many_questions_as_one(
    song: Song, client: Client, django_assert_max_num_queries: object
) -> None:
    from arkund.songs import desk as acting

    for _ in range(5):
        acting.duplicate(song)
    with django_assert_max_num_queries(15):  # type: ignore[operator]
        page = client.get("/").content.decode()
    assert page.count('<article class="song') == 6


def test_the_demo_is_made_once_from_an_empty_desk(data: Path, client: Client) -> None:
    assert "Make the demo song" in client.get("/").content.decode()
    for _ in range(2):
        assert client.post("/demo/")["Location"] == "/"
    (job,) = Job.objects.filter(kind="demo")
    page = client.get("/").content.decode()
    assert "Make the demo song" not in page
    assert re.search(r'http-equiv="refresh"', page)
    assert "is being made: waiting for a worker" in page
    Job.objects.filter(pk=job.pk).update(state=Job.State.FAILED)
    assert jobs.waiting("demo") is None
    assert "Make the demo song" in client.get("/").content.decode()


def test_the_demo_is_opened_where_it_is(song: Song, client: Client) -> None:
    Song.objects.filter(pk=song.pk).update(slug=DEMO_SLUG)
    assert client.post("/demo/")["Location"] == f"/{DEMO_SLUG}/"
    assert not Job.objects.exists()
    assert "Make the demo song" not in client.get("/").content.decode()


def test_a_figure_has_the_unit_that_its_name_ends_in_and_no_other() -> None:
    assert figure_words("reduction_db") == ("reduction", "dB")
    assert figure_words("mid_dbfs") == ("mid", "dBFS")
    assert figure_words("tom_3_attack_over_body") == ("tom 3 attack over body", "dB")
    assert figure_words("loudness_at_equal_true_peak") == ("loudness at equal true peak", "LU")
