"""Rounds of ear drills: asked of a song's own mics, answered once, scored by week; the song stays as it is."""

from datetime import timedelta
from pathlib import Path

import pytest
from django.test import Client
from django.utils import timezone

from arkund.core.ears.skills import skill_named
from arkund.core.errors import ArkundError
from arkund.songs import drills
from arkund.songs.models import Drill, Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def _right(asked: drills.Asked) -> int:
    """The side that was changed, as the gains of *louder* tell."""
    gains = [side["gain_db"] for side in asked.sides]
    return gains.index(max(gains))


def test_a_round_is_asked_answered_once_and_leaves_the_song_alone(song: Song) -> None:
    asked = drills.ask(song, "louder", "snare_top", 0, 48000)
    assert asked.asks == "Snare top: which is louder?"
    assert sorted(side["gain_db"] for side in asked.sides) == [-3.0, 0.0]
    told = drills.answer(song, asked.number, _right(asked))
    assert told["right"]
    assert told["said"] == f"Right: {'AB'[_right(asked)]} was 3 dB louder."
    with pytest.raises(ArkundError, match="answered already"):
        drills.answer(song, asked.number, 0)
    assert Song.objects.get().revisions.count() == 1


def test_it_gets_harder_with_two_right_answers_and_easier_with_a_wrong_one(song: Song) -> None:
    sizes = []
    for is_right in (True, True, True, True, False, True):
        asked = drills.ask(song, "louder", "snare_top", 0, 48000)
        sizes.append(Drill.objects.latest("pk").size)
        side = _right(asked)
        drills.answer(song, asked.number, side if is_right else 1 - side)
    assert sizes == [3.0, 3.0, 1.5, 1.5, 0.75, 1.5]


def test_both_sides_are_equally_loud_where_loudness_is_not_asked(song: Song) -> None:
    asked = drills.ask(song, "eq", "snare_top", 0, 96000)
    assert max(side["gain_db"] for side in asked.sides) == 0.0
    assert min(side["gain_db"] for side in asked.sides) < -0.1
    assert sorted(map(len, (side["patch"] for side in asked.sides))) == [0, 1]


def test_what_was_heard_is_told_by_week(song: Song) -> None:
    skill, now = skill_named("louder"), timezone.now()
    for weeks, size in ((0, 0.5), (1, 2.0)):
        for n in range(12):
            made = Drill.objects.create(
                song=song, skill="louder", size=size, changed=0, told="", right=n % 3 != 0
            )
            Drill.objects.filter(pk=made.pk).update(created=now - timedelta(weeks=weeks, minutes=n))
    score = drills.score_of(skill)
    assert [one["rounds"] for one in score["weeks"]] == [12, 12]
    thresholds = [one["threshold"] for one in score["weeks"]]
    assert {score["now"], score["before"]} == set(thresholds)
    assert max(thresholds) > 2 * min(thresholds)


def test_an_old_session_does_not_go_on(song: Song) -> None:
    made = Drill.objects.create(song=song, skill="louder", size=0.2, changed=0, told="", right=True)
    assert len(drills.session_of(skill_named("louder"))) == 1
    Drill.objects.filter(pk=made.pk).update(created=timezone.now() - timedelta(hours=13))
    assert drills.session_of(skill_named("louder")) == []


def test_what_cannot_be_asked_is_said(song: Song, client: Client) -> None:
    with pytest.raises(ArkundError, match="two mics of one drum"):
        drills.ask(song, "polarity", "", 0, 48000)
    page = client.get(f"/{song.slug}/ears/").content.decode()
    assert "Which is louder" in page
    for address, sent, said in (
        ("ask", {"skill": "x", "start": 0, "stop": 48000}, "no drill “x”"),
        ("ask", {"skill": "eq"}, "Say which drill"),
        ("answer", {"number": 9999, "side": 0}, "answered already"),
        ("answer", {"number": 1, "side": "A"}, "Answer A or B"),
    ):
        answer = client.post(f"/{song.slug}/ears/{address}/", sent, content_type="application/json")
        assert answer.status_code == 400
        assert said in answer.json()["error"]
    assert client.get(f"/{song.slug}/ears/?skill=x").status_code == 200
