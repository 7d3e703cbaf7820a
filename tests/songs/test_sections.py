"""Sections of a stored song: found, taken over, side by side."""

from pathlib import Path

import pytest
from django.test import Client

from arkund.songs import revisions, sections
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def test_what_is_found_covers_the_song_and_is_kept_by_name(song: Song) -> None:
    sheet = sheet_of(song)
    found = sections.found(sheet)
    assert found[0].first == 1
    made = sections.accept(song)
    assert made.label == f"{len(found)} sections found from the hits"
    assert [s.start_bar for s in made.sheet.sections] == [one.first for one in found]
    said = sections.described(made.sheet)
    assert len(said["sections"]) == len(said["found"])


def test_parts_of_one_name_are_numbered(song: Song) -> None:
    one = sections.found(sheet_of(song))[0]
    import dataclasses

    def part(first: int, name: str) -> object:
        return dataclasses.replace(one, first=first, bars=4, name=name)

    rows = sections.patch_of([part(1, "intro"), part(5, "verse"), part(9, "verse")])["sections"]  # type: ignore[list-item]
    assert [row["name"] for row in rows] == ["intro", "verse 1", "verse 2"]


def test_each_section_is_measured_as_it_sounds(song: Song) -> None:
    assert song.current is not None
    rows = [{"name": "a", "start_bar": 1, "bars": 1}, {"name": "b", "start_bar": 2, "bars": 1}]
    made = revisions.keep(song.pk, song.current.number, {"sections": rows})
    softer = {"over.d1": {"path": "drum_bus.fader_db", "bars": "2", "value": -6, "by": True}}
    after = revisions.keep(song.pk, made.number, softer)
    before, now = (sections.side_by_side(one.sheet) for one in (made, after))
    assert [row["name"] for row in now] == ["a", "b"]
    assert now[0]["loudness_lufs"] == pytest.approx(before[0]["loudness_lufs"], abs=0.5)
    assert now[1]["loudness_lufs"] == pytest.approx(before[1]["loudness_lufs"] - 6, abs=0.5)
    (row,) = sections.differences(after.sheet)
    assert (row["what"], row["bars"], row["value"]) == ("drum bus: level", "2", "by −6 dB")


def test_the_page_lists_what_was_found_and_what_differs(song: Song, client: Client) -> None:
    page = client.get(f"/{song.slug}/sections/").content.decode()
    assert "Use the sections" in page
    assert "Nothing differs yet" in page
    assert song.current is not None
    over = {"path": "drum_bus.fader_db", "bars": "2", "value": -6, "by": True, "ramp_ms": 1000}
    kept = revisions.keep(song.pk, song.current.number, {"over.d1": over})
    page = client.get(f"/{song.slug}/sections/").content.decode()
    assert 'data-spans="over.d1"' in page
    grid = grid_of(kept.sheet)
    assert f'data-ramp="{1 / (grid.bar_start_s(3) - grid.bar_start_s(2)):.4f}"' in page
    assert client.get(f"/{song.slug}/side-by-side/").json() == {"sections": []}
    assert client.get(f"/{song.slug}/picture/sections/").json()["found"][0]["first"] == 1
