"""Help: answers by problem with a song's own findings, the words, the mixing styles, the cautions."""

from fnmatch import fnmatchcase
from pathlib import Path

import pytest
from django.test import Client

from arkund.bench.stations.registry import STATIONS
from arkund.core.advise.findings import MODULES
from arkund.core.advise.school import ROWS
from arkund.songs import findings, problems
from arkund.songs.findings import with_states
from tests.making import small_song

pytestmark = pytest.mark.django_db


def test_every_answer_leads_to_a_station_and_speaks_of_findings_that_there_are() -> None:
    assert len(problems.BY_NAME) == len(problems.PROBLEMS) >= 10
    names = {module.name for module in MODULES}
    for problem in problems.PROBLEMS:
        assert problem.station in STATIONS
        for pattern in problem.findings:
            assert pattern.partition(".")[0] in names, pattern


def test_without_a_song_the_page_answers_and_explains(data: Path, client: Client) -> None:
    page = client.get("/help/").content.decode()
    assert "My snare is boxy" in page
    assert "85 dBA for 8 hours" in page
    assert "professional come first" in page
    for row in ROWS:
        assert row.question in page
    assert client.get("/help/?song=nobody").status_code == 404


def test_with_a_song_an_answer_carries_what_was_found(
    data: Path, tmp_path: Path, client: Client
) -> None:
    song = small_song(tmp_path / "in")
    rows = with_states(song, findings.all_findings(song))
    page = client.get(f"/help/?song={song.slug}").content.decode()
    assert "still being measured" not in page
    spoken_of = [
        row
        for row in rows
        if any(fnmatchcase(row["id"], p) for one in problems.PROBLEMS for p in one.findings)
    ]
    assert spoken_of
    answers = {one["problem"].name: one for one in problems.answered(song)}
    shown = {row["id"] for one in answers.values() for row in one["found"]}
    assert shown <= {row["id"] for row in spoken_of}
    assert all(len(one["found"]) <= problems.MOST_SAID for one in answers.values())
    some = next(row for one in answers.values() for row in one["found"])
    assert some["query"].replace("%3A", ":") in page.replace("&amp;", "&").replace("%3A", ":")
    assert answers["boxy-snare"]["query"] == "mic=snare_top"
    assert "Nothing was found on this in" in page
