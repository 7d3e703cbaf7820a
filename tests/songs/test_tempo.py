"""A song's tempo: other tempos that its hits fit, on the command line and on the page."""

import json

import pytest
from django.test import Client

from arkund import cli
from arkund.songs import revisions
from arkund.songs.models import Song

pytestmark = pytest.mark.django_db(transaction=True)


def _told(song: Song, capsys: pytest.CaptureFixture[str], *more: str) -> dict:
    capsys.readouterr()
    assert cli.main(["tempo", song.slug, "--json", *more]) == 0
    return json.loads(capsys.readouterr().out)


def test_another_tempo_that_fits_is_told_taken_and_offered_back(
    song: Song, client: Client, capsys: pytest.CaptureFixture[str]
) -> None:
    assert song.current is not None
    first = song.current.sheet.tempo
    told = _told(song, capsys)
    assert told["bpm"] == first.bpm
    assert _told(song, capsys, "--bpm", str(first.bpm / 2))["label"].startswith("Tempo ")
    song.refresh_from_db()
    now = song.current.sheet.tempo
    assert (now.bpm, now.first_downbeat_s) == (first.bpm / 2, first.first_downbeat_s)
    # Kick and snare in turn come again after half of that bar as well.
    assert first.bpm in _told(song, capsys)["hits also fit"]
    page = client.get(f"/{song.slug}/load-in/").content.decode()
    assert f'data-bpm="{first.bpm}"' in page


def test_a_tempo_that_follows_the_drummer_has_no_other(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    assert song.current is not None
    half = {"tempo.bpm": song.current.sheet.tempo.bpm / 2}
    revisions.keep(song.pk, song.current.number, half)
    assert _told(song, capsys)["hits also fit"]
    song.refresh_from_db()
    changes = [{"bar": 2, "bpm": half["tempo.bpm"] + 1, "beats": 4, "unit": 4}]
    revisions.keep(song.pk, song.current.number, {"tempo.changes": changes})
    assert _told(song, capsys)["hits also fit"] == []


def test_two_wishes_at_once_are_refused(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    assert cli.main(["tempo", song.slug, "--bpm", "90", "--drifting"]) != 0
    assert "one of --midi FILE.mid, --drifting and --bpm" in capsys.readouterr().err
    assert cli.main(["tempo", song.slug, "--bpm", "4000"]) != 0
    assert "BPM" in capsys.readouterr().err
