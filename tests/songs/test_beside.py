"""A song's drums against its bed and reference: figures, words, command and page."""

import json
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.songs import beside, importing, incoming, revisions
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def plain(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


@pytest.fixture
def song(plain: Song, tmp_path: Path) -> Song:
    """The small song with a bass of 70 Hz as its bed, and a bright reference."""
    folder = tmp_path / "with"
    folder.mkdir()
    files = sorted((tmp_path / "in").rglob("*.wav"))
    rate = sf.info(str(files[0])).samplerate
    for path in files:
        (folder / path.name).write_bytes(path.read_bytes())
    frames = sf.info(str(files[0])).frames
    t = np.arange(frames) / rate
    sf.write(folder / "Bed.wav", 0.5 * np.sin(2 * np.pi * 70 * t), rate)
    noise = np.random.default_rng(1).standard_normal(frames) * 0.05
    sf.write(folder / "Reference.wav", np.diff(noise, prepend=0), rate)
    made, _ = importing.import_song(
        incoming.guess_incoming(incoming.files_of(folder)), importing.Wishes("With bed", 120)
    )
    return made


def test_the_bed_covers_the_kick_and_sections_are_told(song: Song) -> None:
    assert song.current is not None
    parts = [
        {"name": "verse", "start_bar": 1, "bars": 1},
        {"name": "chorus", "start_bar": 2, "bars": 1},
    ]
    revisions.keep(song.pk, song.current.number, {"sections": parts, "bed_db": 0})
    song.refresh_from_db()
    found = beside.described(sheet_of(song))
    assert [row["name"] for row in found["sections"]] == ["verse", "chorus"]
    assert found["kick"]["share"] > found["snare"]["share"]
    assert any("louder than the kick from 35 Hz to 120 Hz" in words for words in found["said"])
    assert len(found["reference"]) == 8
    assert any("than the reference" in words for words in found["said"])
    # A softer bed covers less.
    revisions.keep(song.pk, 2, {"bed_db": -40})
    song.refresh_from_db()
    softer = beside.described(sheet_of(song))
    assert softer["kick"]["share"] <= found["kick"]["share"]
    assert softer["drums_over_bed_lu"] == pytest.approx(found["drums_over_bed_lu"] + 40, abs=0.5)


def test_by_command_and_on_the_page(
    song: Song, client: Client, capsys: pytest.CaptureFixture[str]
) -> None:
    assert cli.main(["bed", song.slug, "--json"]) == 0
    assert "drums_over_bed_lu" in json.loads(capsys.readouterr().out)
    assert 'id="in-the-song"' in client.get(f"/{song.slug}/sections/").content.decode()
    shown = client.get(f"/{song.slug}/in-the-song/").content.decode()
    assert "over the reference, dB" in shown
    assert "kick, 35–120 Hz" in shown


def test_a_song_without_either_says_so(plain: Song, client: Client) -> None:
    with pytest.raises(ArkundError, match="no bed and no reference"):
        beside.described(sheet_of(plain))
    assert 'id="in-the-song"' not in client.get(f"/{plain.slug}/sections/").content.decode()
    assert client.get(f"/{plain.slug}/in-the-song/").status_code == 400
