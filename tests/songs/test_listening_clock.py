"""The listening clock: minutes of the day, breaks, and when a song was last heard."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from django.test import Client

from arkund.core.errors import ArkundError
from arkund.songs import listening
from arkund.songs.models import Song
from tests.making import small_song

pytestmark = pytest.mark.django_db
NOON = datetime(2026, 3, 3, 12, 0, tzinfo=UTC)


def _listen(minutes: int, at: datetime) -> datetime:
    for _ in range(minutes):
        at += timedelta(minutes=1)
        listening.listened(None, 60, at)
    return at


def test_a_break_is_due_after_three_quarters_of_an_hour_and_ends_after_ten_minutes() -> None:
    at = _listen(44, NOON)
    assert not listening.now(at).is_break_due
    assert listening.now(at).words == "Heard today: 44 min; a break is due in 1 min"
    at = _listen(1, at)
    assert listening.now(at).is_break_due
    assert "45 min without a break" in listening.now(at).words
    # Nine minutes are no break; ten are.
    later = _listen(1, at + timedelta(minutes=8))
    assert listening.now(later).is_break_due
    rested = later + timedelta(minutes=10)
    assert listening.now(rested).words == "Heard today: 46 min"
    assert listening.listened(None, 60, rested).without_break == 60


def test_a_day_begins_anew() -> None:
    at = _listen(3, NOON)
    assert listening.now(at).today == 180
    assert listening.now(at + timedelta(days=1)).words == ""


def test_hours_are_said_as_hours() -> None:
    assert [listening.spoken(s) for s in (20, 59 * 60, 72 * 60)] == [
        "1 min",
        "59 min",
        "1 h 12 min",
    ]


@pytest.mark.parametrize("seconds", [0, -5, 121])
def test_a_page_tells_of_a_minute_at_a_time(seconds: int) -> None:
    with pytest.raises(ArkundError, match="1 to 120 seconds"):
        listening.listened(None, seconds)


def test_a_page_tells_what_was_heard_and_the_desk_shows_it(
    data: Path, tmp_path: Path, client: Client
) -> None:
    song = small_song(tmp_path / "in")
    told = client.post(
        "/listened/", {"seconds": 60, "song": song.slug}, content_type="application/json"
    )
    assert told.json() == {
        "words": "Heard today: 1 min; a break is due in 44 min",
        "is_break_due": False,
    }
    assert Song.objects.get().heard is not None
    page = client.get("/").content.decode()
    assert "heard 0\xa0minutes ago" in page
    assert "Heard today: 1 min" in page
    refused = client.post("/listened/", {"seconds": 1e9}, content_type="application/json")
    assert refused.status_code == 400
    unknown = client.post(
        "/listened/", {"seconds": 9, "song": "x"}, content_type="application/json"
    )
    assert unknown.status_code == 404
