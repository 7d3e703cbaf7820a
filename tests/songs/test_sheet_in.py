"""Settings from a sheet file: listed, chosen one by one, and bit-identical where all of it comes back."""

import json
from pathlib import Path

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.sheet.sheet import Sheet, dump
from arkund.songs import rendering, revisions, sheet_in
from arkund.songs.models import Song
from tests.making import small_song

pytestmark = pytest.mark.django_db
CHANGES = (
    {"mics.snare_top.trim_db": -4.5, "mics.snare_top.pan": 0.2},
    {"buses.plate": {"sends": {"snare_top": {"db": -6.0}}, "fader_db": -8.0}},
    {"drum_bus.fader_db": -1.5},
)


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def _keep(song: Song, *patches: dict[str, object]) -> Sheet:
    for patch in patches:
        song.refresh_from_db()
        assert song.current is not None
        revisions.keep(song.pk, song.current.number, patch)
    song.refresh_from_db()
    assert song.current is not None
    return song.current.sheet


def _mix(sheet: Sheet) -> np.ndarray:
    engine = rendering.exact_engine(sheet)
    return rendering.render_span(sheet, "output", "now", 0, sheet.frames, "", engine)


def test_all_of_it_renders_bit_identically(song: Song) -> None:
    set_so = _keep(song, *CHANGES)
    was = _mix(set_so)
    _keep(song, {"mics.snare_top.trim_db": 3.0}, {"buses.plate": None}, {"buses.other": {}})
    made = sheet_in.take_over(song, set_so, "sheet.json")
    assert set(made.sheet.buses) == set(set_so.buses)
    assert np.array_equal(_mix(made.sheet), was)
    song.refresh_from_db()
    with pytest.raises(ArkundError, match="sets nothing otherwise"):
        sheet_in.take_over(song, set_so, "sheet.json")


def test_what_is_chosen_is_taken_over_and_nothing_else(song: Song) -> None:
    set_so = _keep(song, *CHANGES)
    here = _keep(
        song,
        {"mics.snare_top.trim_db": 0.0, "mics.snare_top.pan": 0.0, "drum_bus.fader_db": 0.0},
        {"buses.plate": None},
    )
    found = {one.path: one for one in sheet_in.offers(song, set_so, "sheet.json")}
    assert set(found) == {"mics.snare_top.trim_db", "mics.snare_top.pan", "drum_bus", "buses.plate"}
    (row,) = found["mics.snare_top.trim_db"].rows
    assert (row["a"], row["b"]) == ("0 dB", "−4.5 dB")
    made = sheet_in.take_over(song, set_so, "sheet.json", ["mics.snare_top.trim_db"])
    assert made.label == "Settings taken over from sheet.json (1 of 4)"
    assert made.sheet.mics["snare_top"].trim_db == -4.5
    assert made.sheet.buses == here.buses
    song.refresh_from_db()
    for chosen, said in ((["mics.tom_9.pan"], "does not set mics.tom_9.pan"), ([], "Choose what")):
        with pytest.raises(ArkundError, match=said):
            sheet_in.take_over(song, set_so, "sheet.json", chosen)


def test_the_page_lists_and_takes_over_what_is_ticked(song: Song, client: Client) -> None:
    _keep(song, *CHANGES)
    saved = client.get(f"/{song.slug}/sheet.json")
    assert "_sheet.json" in saved["Content-Disposition"]
    _keep(song, {"mics.snare_top.trim_db": 0.0}, {"drum_bus.fader_db": 0.0})
    file = SimpleUploadedFile("mine.json", saved.content)
    brought = client.post(f"/{song.slug}/settings-from-file/bring/", {"sheet": file})
    page = client.get(brought["Location"]).content.decode()
    assert "mine.json sets 2 things otherwise" in page
    assert "0 dB → −4.5 dB" in page
    token = brought["Location"].partition("token=")[2]
    song.refresh_from_db()
    assert song.current is not None
    form = {"token": token, "base": song.current.number, "chosen": ["drum_bus"]}
    assert client.post(f"/{song.slug}/settings-from-file/take/", form).status_code == 302
    sheet = Song.objects.get().current.sheet  # type: ignore[union-attr]
    assert (sheet.drum_bus.fader_db, sheet.mics["snare_top"].trim_db) == (-1.5, 0.0)
    # From the revision that the page showed: in the meantime it has moved on.
    form["chosen"] = ["mics.snare_top.trim_db"]
    assert client.post(f"/{song.slug}/settings-from-file/take/", form).status_code == 409


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (b"{", "sheet"),
        (b"\xff\xfe", "could not be read as a sheet"),
        (b"[" * 5000, "sheet"),
        (b"{}", "sheet"),
    ],
)
def test_what_is_no_sheet_is_refused(song: Song, client: Client, content: bytes, said: str) -> None:
    file = SimpleUploadedFile("bad.json", content)
    answer = client.post(
        f"/{song.slug}/settings-from-file/bring/", {"sheet": file}, headers={"Accept": "text/html"}
    )
    assert answer.status_code == 400
    assert said in answer.content.decode()
    lost = client.post(f"/{song.slug}/settings-from-file/take/", {"token": "nothing", "base": 1})
    assert lost.status_code == 400


def test_the_command_line_lists_and_chooses(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    path = tmp_path / "sheet.json"
    path.write_text(dump(_keep(song, *CHANGES)))
    _keep(song, {"mics.snare_top.trim_db": 0.0}, {"drum_bus.fader_db": 0.0})
    capsys.readouterr()
    assert cli.main(["import-sheet", song.slug, str(path), "--list", "--json"]) == 0
    paths = [one["path"] for one in json.loads(capsys.readouterr().out)["offers"]]
    assert paths == ["mics.snare_top.trim_db", "drum_bus"]
    assert cli.main(["import-sheet", song.slug, str(path), "--only", "drum_bus"]) == 0
    assert Song.objects.get().current.sheet.drum_bus.fader_db == -1.5  # type: ignore[union-attr]
