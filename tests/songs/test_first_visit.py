"""The first visit: what was done to the song ticks its steps, what was heard is told, and any can be left out."""

from pathlib import Path

import pytest
from django.test import Client

from arkund.bench.stations.registry import STATIONS
from arkund.core.errors import ArkundError
from arkund.songs import first_visit, revisions
from arkund.songs.demo import DEMO_SLUG
from arkund.songs.models import Job, Print, Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    made = small_song(tmp_path / "in")
    Song.objects.filter(pk=made.pk).update(slug=DEMO_SLUG)
    made.refresh_from_db()
    return made


def _done(song: Song) -> list[str]:
    way = first_visit.way_of(song)
    assert way is not None
    return [one.step.name for one in way.steps if one.is_done]


def _next(song: Song) -> str:
    way = first_visit.way_of(song)
    assert way is not None
    assert way.next is not None
    return way.next.step.name


def test_every_step_leads_to_a_station_that_there_is() -> None:
    assert len(first_visit.STEPS) == 10
    assert {step.station for step in first_visit.STEPS} <= set(STATIONS)


def test_what_was_done_ticks_a_step_however_it_came_about(song: Song) -> None:
    assert _done(song) == []
    revisions.keep(song.pk, 1, {"mics.snare_top.polarity": -1}, station="align")
    revisions.keep(
        song.pk, 2, {"mics.snare_top.trim_db": 1}, station="bus", finding="bus.blend:strike"
    )
    # A pass blends buses in, too: the step wants a hand.
    assert _done(song) == ["polarity"]
    revisions.keep(song.pk, 3, {"mics.snare_top.trim_db": 2}, station="bus")
    job = Job.objects.create(kind="first-pass", song=song, state=Job.State.FAILED)
    assert _done(song) == ["polarity", "blend"]
    Job.objects.filter(pk=job.pk).update(state=Job.State.DONE)
    song.refresh_from_db()
    Print.objects.create(song=song, revision=song.current, file_name="x.zip")
    assert _done(song) == ["polarity", "pass", "blend", "print"]
    over = {"path": "mics.snare_top.fader_db", "bars": "2-3", "value": 2.0, "by": True}
    revisions.keep(song.pk, 4, {"over.d1": over})
    assert _done(song) == ["polarity", "pass", "blend", "chorus", "print"]


def test_the_next_step_is_the_first_that_is_neither_done_nor_passed_over(song: Song) -> None:
    assert _next(song) == "raw"
    first_visit.heard(song, "raw")
    first_visit.pass_over(song, "findings")
    assert _next(song) == "polarity"
    for step in first_visit.STEPS:
        first_visit.pass_over(song, step.name)
    way = first_visit.way_of(song)
    assert way is not None
    assert way.next is None
    first_visit.begin_again(song)
    assert _next(song) == "raw"


def test_only_steps_that_are_heard_can_be_said_to_be(song: Song) -> None:
    with pytest.raises(ArkundError, match="Only these steps are heard: raw, findings, compare"):
        first_visit.heard(song, "print")
    with pytest.raises(ArkundError, match="There is no step “x”"):
        first_visit.pass_over(song, "x")


def test_other_songs_have_no_first_visit(data: Path, tmp_path: Path, client: Client) -> None:
    other = small_song(tmp_path / "in")
    assert first_visit.way_of(other) is None
    with pytest.raises(ArkundError, match="on the demo song"):
        first_visit.open_way(other, is_open=True)
    answer = client.post(f"/{other.slug}/first-visit/leave/")
    assert answer.status_code == 400


def test_it_is_begun_on_the_desk_shown_on_every_page_and_left(song: Song, client: Client) -> None:
    assert "Begin with step 1" in client.get("/").content.decode()
    page = f"/{DEMO_SLUG}/level/"
    assert "1 of 10" not in client.get(page).content.decode()
    assert client.post(f"/{DEMO_SLUG}/first-visit/open/")["Location"].startswith(
        f"/{DEMO_SLUG}/edit/?mic="
    )
    assert "1 of 10 · Hear the raw kit" in client.get(page).content.decode()
    said = {"name": "raw", "what": "heard"}
    shown = client.post(
        f"/{DEMO_SLUG}/first-visit/step/?station=load-in", said, content_type="application/json"
    ).content.decode()
    assert "2 of 10" in shown
    assert "Go there" not in shown  # the page is the one of that step already
    assert "Go there" in client.get(page).content.decode()
    assert client.post(f"/{DEMO_SLUG}/first-visit/leave/").status_code == 204
    assert "of 10" not in client.get(page).content.decode()
    assert "Go on with step 2" in client.get("/").content.decode()


@pytest.mark.parametrize(
    "body", ["{}", '{"name": "raw", "what": "x"}', '{"name": 3, "what": "heard"}', "[]"]
)
def test_what_cannot_be_read_is_refused(song: Song, client: Client, body: str) -> None:
    answer = client.post(f"/{DEMO_SLUG}/first-visit/step/", body, content_type="application/json")
    assert answer.status_code == 400
    assert "Say which step" in answer.json()["error"]
