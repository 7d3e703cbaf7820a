"""The recall report: it has what was set, since when and why, and nothing that was not."""

import re
from html import unescape
from pathlib import Path

import pytest
from django.test import Client

from arkund import cli
from arkund.songs import recall, revisions, todos
from arkund.songs.models import Revision, Song
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def kept(song: Song, patch: dict[str, object], reason: str = "") -> Revision:
    song.refresh_from_db()
    assert song.current is not None
    made = revisions.keep(song.pk, song.current.number, patch, reason=reason)
    song.refresh_from_db()
    return made


def rows(song: Song, path: str) -> dict[str, recall.Setting]:
    channel = next(one for one in recall.recall_of(song).channels if one.path == path)
    return {setting.what: setting for setting in channel.settings}


def test_nothing_was_set_on_a_song_as_it_came(song: Song) -> None:
    found = recall.recall_of(song)
    assert found.channels == []
    assert found.plain[:2] == ["kick in", "snare top"]
    assert found.over == []


def test_each_setting_has_its_values_and_the_revisions_that_made_it(song: Song) -> None:
    first = kept(song, {"mics.snare_top.trim_db": 3.5, "mics.snare_top.polarity": -1}, "too soft")
    second = kept(
        song,
        {
            "mics.snare_top.chain.eq.bands.b2.on": True,
            "mics.snare_top.chain.eq.bands.b2.gain_db": -6,
            "mics.snare_top.chain.eq.bands.b2.frequency_hz": 406,
        },
    )
    third = kept(song, {"mics.snare_top.chain.eq.high_pass": {"on": True, "frequency_hz": 90}})
    kept(song, {"mics.snare_top.trim_db": 4, "mics.kick_in.fader_db": -3})
    last = kept(song, {"mics.snare_top.chain.compressor.on": True})
    found = rows(song, "mics.snare_top")
    assert list(found) == ["trim", "polarity", "EQ", "compressor"]
    assert found["trim"].said == ("4 dB",)
    assert found["polarity"].said == ("flipped",)
    assert found["polarity"].revisions == (first,)
    assert found["EQ"].revisions == (second, third)
    band, high_pass = found["EQ"].said
    assert band == "band 2: kind bell, frequency 406 Hz, gain −6 dB, width 1 Q"
    assert high_pass.startswith("high-pass: frequency 90 Hz")
    assert found["compressor"].last == last
    assert "ratio 4 : 1" in found["compressor"].said
    assert rows(song, "mics.kick_in")["fader"].said == ("−3 dB",)


def test_buses_layers_and_differences_are_there(song: Song) -> None:
    kept(song, {"buses.strike": {"sends": {"snare_top": {"db": -2, "pre": False}}, "fader_db": -9}})
    kept(song, {"layers.kick_sub": {"kind": "sub", "of": "kick_in", "note_hz": 45}})
    kept(song, {"over.d1": {"path": "mics.snare_top.fader_db", "bars": "2", "value": -4}})
    kept(song, {"mics.kick_in.chain.s1": {"kind": "saturation", "on": False, "drive_db": 6}})
    assert rows(song, "buses.strike")["sends"].said == ("snare top −2 dB, after the fader",)
    assert rows(song, "buses.strike")["blend"].said == ("−9 dB",)
    assert "note 45 Hz" in rows(song, "layers.kick_sub")["plays"].said
    assert rows(song, "mics.kick_in")["saturation"].said[0] == "bypassed"
    (over,) = recall.recall_of(song).over
    assert over.what == "snare top: fader over bars 2"
    assert over.said == ("−4 dB",)


def test_the_report_is_one_file_with_its_style_and_reasons_once(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    kept(song, {"mics.snare_top.trim_db": 3.5, "mics.snare_top.polarity": -1}, "soft & dull")
    todos.add(song, "that <ring>", "snare_top", 2)
    out = tmp_path / "recall.html"
    assert cli.main(["report", song.slug, "-o", str(out)]) == 0
    page = out.read_text()
    assert not re.search(r"<link|<script|src=|url\(", page)
    text = unescape(re.sub(r"<[^>]+>", " ", page))
    assert "that <ring>" in text
    assert text.count("soft & dull") == 1
    assert "3.5 dB" in text
    assert "snare attack" in text
    assert cli.main(["report", song.slug, "-o", str(tmp_path / "no" / "recall.html")]) == 1
    assert "There is no folder" in capsys.readouterr().err


def test_the_page_opens_under_the_policy_and_downloads(song: Song, client: Client) -> None:
    page = client.get(f"/{song.slug}/print/report/")
    assert "<style" not in page.content.decode()
    assert "Content-Disposition" not in page
    file = client.get(f"/{song.slug}/print/report/?file")
    assert "_recall.html" in file["Content-Disposition"]
    assert b"<style" in file.content
