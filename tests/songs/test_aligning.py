"""Align on stored songs: one solution from the command line and on the page."""

import json
from dataclasses import asdict
from pathlib import Path
from typing import Any

import pytest
from django.test import Client

from arkund import cli
from arkund.core.advise.align import shifts
from arkund.core.advise.school import TIGHT
from arkund.core.align.pairs import Pair
from arkund.core.kit.roles import parse_mic_name
from arkund.core.sheet.sheet import Take
from arkund.songs import analysed, findings, revisions
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of
from tests.making import whole_song

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def song(data: Path, recording: Path) -> Song:
    return whole_song(recording)


def _solved(song: Song, capsys: pytest.CaptureFixture[str], *more: str) -> Any:
    capsys.readouterr()
    assert cli.main(["align", song.slug, "--solve", "--json", *more]) == 0
    return json.loads(capsys.readouterr().out)


def test_the_solution_takes_the_delays_away(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    before = _solved(song, capsys)
    assert set(before["shifts"]) >= {"kick_in", "kick_out", "snare_top", "snare_bottom", "hat"}
    sure = [r for r in before["residuals"] if r["sure"]]
    assert sure
    for r in sure:
        shift = {**{r["reference"]: 0.0}, **before["shifts"]}
        left = r["delay_samples"] + shift[r["mic"]] - shift[r["reference"]]
        assert r["left_samples"] == pytest.approx(left, abs=0.02)
    assert song.current is not None
    patch = {f"mics.{m}.delay_samples": round(s, 1) for m, s in before["shifts"].items()}
    revisions.keep(song.pk, song.current.number, patch)
    # Shifts are where a mic belongs, not by how much it is still off.
    assert _solved(song, capsys)["shifts"] == before["shifts"]


def test_pairs_alone_leave_the_latest_mic_where_it_is(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    found = _solved(song, capsys, "--onto", "pairs")
    assert all(shift >= 0 for shift in found["shifts"].values())
    assert {"onto", "school", "snare_centre", "snare_centre_rooms"} <= set(found)


def test_the_page_shows_sums_by_band_and_notches(song: Song, client: Client) -> None:
    page = client.get(f"/{song.slug}/picture/align/", {"mic": "snare_top", "bars": "1-2"}).json()
    sums = page["sums"]
    assert [name for name, _ in sums["rows"]] == ["as recorded", "flipped", "shifted", "both"]
    assert all(len(values) == 3 and max(values) <= 3.02 for _, values in sums["rows"])
    late = client.get(
        f"/{song.slug}/picture/align/",
        {
            "mic": "snare_top",
            "bars": "1-2",
            "patch": json.dumps({"mics.snare_top.delay_samples": 480}),
        },
    ).json()["sums"]
    assert late["apart_ms"] > sums["apart_ms"] + 3
    assert late["notches_hz"][0] < 500


def test_the_triangle_and_the_rooms_say_how_much_later_each_is_now(
    song: Song, client: Client
) -> None:
    def cells() -> dict[tuple[str, str], dict[str, Any]]:
        got = client.get(f"/{song.slug}/picture/align/", {"mic": "snare_top", "bars": "1-2"}).json()
        names = [one["mic"] for one in got["matrix"]["mics"]]
        assert got["room"] is None
        return {(names[c["row"]], names[c["column"]]): c for c in got["matrix"]["cells"]}

    before = cells()
    assert all(c["row"] > c["column"] for c in before.values())
    assert before["overhead_l", "snare_top"]["later"] > 20
    assert song.current is not None
    revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.snare_top.delay_samples": 30,
            "mics.snare_top.polarity": -1,
        },
    )
    after = cells()
    for two in (("overhead_l", "snare_top"), ("snare_bottom", "snare_top")):
        assert after[two]["later"] == before[two]["later"] - 30
        assert after[two]["same"] != before[two]["same"]
    assert after["kick_out", "kick_in"] == before["kick_out", "kick_in"]

    rooms = [m for m in sheet_of(song).mics if m.startswith("room")]
    asked = {"mic": rooms[0], "bars": "1-2"}
    room = client.get(f"/{song.slug}/picture/align/", asked).json()["room"]
    assert room["answer"] == "late"
    assert room["ms"] > 1
    assert room["m"] == pytest.approx(room["ms"] * 0.343, abs=0.1)
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(
        song.pk,
        song.current.number,
        {
            f"mics.{rooms[0]}.delay_samples": room["drawn_in"],
        },
    )
    again = client.get(f"/{song.slug}/picture/align/", asked).json()["room"]
    assert again["ms"] == pytest.approx(0, abs=0.05)


def test_the_same_comes_out_whatever_was_flipped_moved_or_muted_before(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    fresh = _solved(song, capsys)["shifts"]
    assert song.current is not None
    patch = {
        "mics.snare_bottom.polarity": -song.current.sheet.mics["snare_bottom"].polarity,
        "mics.kick_out.delay_samples": 90.0,
        "mics.tom_1.mute": True,
        "mics.kick_in.trim_db": -6.0,
    }
    revisions.keep(song.pk, song.current.number, patch)
    assert _solved(song, capsys)["shifts"] == fresh


def test_applied_it_is_one_change_and_every_drum_is_together(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    found = _solved(song, capsys)
    assert cli.main(["align", song.slug, "--apply", "--json"]) == 0
    assert "mics moved onto the overheads" in json.loads(capsys.readouterr().out)["label"]
    song.refresh_from_db()
    assert song.current is not None
    stand = {m: s.delay_samples for m, s in song.current.sheet.mics.items()}
    for r in found["residuals"]:
        if r["sure"] and parse_mic_name(r["mic"]).piece == parse_mic_name(r["reference"]).piece:
            apart = r["delay_samples"] + stand[r["mic"]] - stand[r["reference"]]
            # Within five samples, or together as they were recorded.
            assert abs(apart) < 5 or stand[r["mic"]] == stand[r["reference"]], r
    number = song.current.number
    assert cli.main(["align", song.slug, "--apply"]) != 0
    assert "nothing to move" in capsys.readouterr().err
    song.refresh_from_db()
    assert song.current.number == number


def test_a_drum_s_delay_is_proposed_for_all_of_its_mics(song: Song) -> None:
    study = findings.study_of_song(song)
    proposed = [shifts.find_delay(study, mic, TIGHT) for mic in ("snare_top", "snare_bottom")]
    assert all(proposed)
    for own in proposed:
        for found in own:
            moved = {path.split(".")[1] for path in found.proposal}
            assert moved == {"snare_top", "snare_bottom"}
            assert "together with the drum’s other mics" in found.reason.replace("'", "’")


def test_an_analysis_of_before_hits_were_called_hits_reads_on(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    pair = asdict(
        Pair("snare", "snare_bottom", "snare_top", 13.0, -1, 0.0, 2.4, 0.5, 0.9, True, 20)
    )
    then = {("strokes" if k == "hits" else k): v for k, v in pair.items()}
    stored = {"pairs": [then], "measures": {}, "files": {}, "heard": {}}
    monkeypatch.setattr(analysed.storage, "load_analysis", lambda digest: stored)
    take = Take(number=1, sources={}, analysis="a" * 64)
    assert [asdict(p) for p in analysed.analysis_of(take).pairs] == [pair]
