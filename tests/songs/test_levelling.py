"""Mics trimmed together and the stage from the other seat."""

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.sheet.pairs import Stereo, pans_of, stereo_of
from arkund.songs import importing, incoming, levelling, revisions
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of
from tests.making import write_small_takes

pytestmark = pytest.mark.django_db(transaction=True)


def test_trims_move_together_and_carry_thresholds_along(song: Song) -> None:
    assert song.current is not None
    revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.kick_in.trim_db": 3.0,
            "mics.snare_top.clean.on": True,
        },
    )
    before = sheet_of(song).mics
    assert cli.main(["trim", song.slug, "-1.5", "kick_in", "snare_top", "--json"]) == 0
    song.refresh_from_db()
    now = sheet_of(song).mics
    assert (now["kick_in"].trim_db, now["snare_top"].trim_db) == (1.5, -1.5)
    carried = before["snare_top"].clean.threshold_db - 1.5
    assert now["snare_top"].clean.threshold_db == carried


def test_a_trim_by_hand_carries_thresholds_unless_they_are_set_too(
    song: Song, client: Client
) -> None:
    assert song.current is not None
    path = "mics.snare_top"
    number = revisions.keep(song.pk, song.current.number, {f"{path}.clean.on": True}).number
    for patch, wanted in (
        ({f"{path}.trim_db": 4}, -26.0),
        ({f"{path}.trim_db": 6, f"{path}.clean.threshold_db": -40}, -40.0),
        ({f"{path}.trim_db": "loud"}, None),
    ):
        got = client.post(
            f"/{song.slug}/keep/", json.dumps({"base": number, "patch": patch}), "application/json"
        )
        if wanted is None:
            assert got.status_code == 400
            continue
        number = got.json()["revision"]
        assert got.json()["sheet"]["mics"]["snare_top"]["clean"]["threshold_db"] == wanted


def test_the_other_seat_and_back(song: Song, client: Client) -> None:
    with pytest.raises(ArkundError, match="Nothing is panned"):
        levelling.mirror(song)
    assert song.current is not None
    number = revisions.keep(song.pk, song.current.number, {"mics.snare_top.pan": 0.4}).number
    got = client.post(
        f"/{song.slug}/level/mirror/", json.dumps({"base": number}), "application/json"
    )
    assert got.json()["sheet"]["mics"]["snare_top"]["pan"] == -0.4
    assert cli.main(["mirror", song.slug, "--json"]) == 0
    song.refresh_from_db()
    assert sheet_of(song).mics["snare_top"].pan == 0.4


def test_what_cannot_be_trimmed_is_said(song: Song, client: Client) -> None:
    assert song.current is not None
    good = {"base": song.current.number, "mics": ["kick_in"], "by_db": 1.0}
    for wrong in (
        {"mics": []},
        {"mics": ["cowbell"]},
        {"by_db": 99},
        {"by_db": "much"},
        {"mics": "x"},
    ):
        got = client.post(
            f"/{song.slug}/level/together/", json.dumps(good | wrong), "application/json"
        )
        assert got.status_code == 400, wrong
        assert got.json()["error"].endswith("."), got.json()
    fine = client.post(f"/{song.slug}/level/together/", json.dumps(good), "application/json")
    assert fine.json()["label"] == "kick in: trim +1 dB"


def test_one_hit_is_turned_down_and_back(song: Song, client: Client) -> None:
    assert song.current is not None
    asked = {"mic": "snare_top", "bars": "1-2"}

    def rows() -> tuple[list[dict[str, Any]], list[float], int]:
        page = client.get(f"/{song.slug}/picture/level/", asked).json()
        song.refresh_from_db()
        own = next(r for r in page["rows"] if r["chosen"])
        assert song.current is not None
        return page["hits"], own["peaks"], song.current.number

    hits, peaks, number = rows()
    change = {"base": number, "mic": "snare_top", "hit": hits[2]["id"], "gain_db": -5}
    url = f"/{song.slug}/level/clip-gain/"
    assert client.post(url, json.dumps(change), "application/json").status_code == 200
    after, lower, number = rows()
    assert [s["gain_db"] for s in after[:4]] == [0, 0, -5, 0]
    assert lower[2] == pytest.approx(peaks[2] - 5, abs=0.1)
    assert lower[:2] + lower[3:] == pytest.approx(peaks[:2] + peaks[3:], abs=0.1)
    # The same hit again replaces the first gain, and 0 dB takes it away.
    again = {**change, "base": number, "gain_db": 2}
    number = client.post(url, json.dumps(again), "application/json").json()["revision"]
    assert rows()[1][2] == pytest.approx(peaks[2] + 2, abs=0.1)
    back = {**change, "base": number, "gain_db": 0}
    assert client.post(url, json.dumps(back), "application/json").status_code == 200
    assert rows()[1] == pytest.approx(peaks, abs=0.01)
    assert song.current is not None
    for wrong, words in (
        ({"gain_db": 90}, "between −24 and 24"),
        ({"hit": "nobody"}, "no longer in the list"),
        ({"mic": "cowbell"}, "no mic “cowbell”"),
        ({"gain_db": "loud"}, "Say which hit"),
    ):
        said = client.post(
            url, json.dumps({**back, "base": rows()[2], **wrong}), "application/json"
        )
        assert said.status_code == 400
        assert words in said.json()["error"]


@pytest.mark.parametrize("width", [0.0, 0.35, 1.0])
@pytest.mark.parametrize("balance", [-0.4, 0.0, 0.25])
@pytest.mark.parametrize("seat", [1.0, -1.0])
def test_pans_and_width_lead_to_each_other(width: float, balance: float, seat: float) -> None:
    left, right = pans_of(Stereo(width, balance), seat)
    assert -1 <= left <= 1
    assert -1 <= right <= 1
    if width + abs(balance) <= 1:
        assert stereo_of(left, right) == pytest.approx((width, balance))
        assert (right - left) * seat >= 0


@pytest.fixture
def paired(data: Path, tmp_path: Path) -> Song:
    """The small song with two overheads."""
    write_small_takes(tmp_path)
    for side in "LR":
        shutil.copy(tmp_path / "Snare Top.wav", tmp_path / f"Overhead {side}.wav")
    files = incoming.guess_incoming(incoming.files_of(tmp_path))
    return importing.import_song(files, importing.Wishes("Tin Roof", 120.0))[0]


def test_a_pair_is_drawn_in_by_page_and_command_and_keeps_its_seat(
    paired: Song, client: Client
) -> None:
    song = paired
    assert cli.main(["width", song.slug, "overhead_l", "0.5", "--json"]) == 0
    song.refresh_from_db()
    assert song.current is not None
    mics = sheet_of(song).mics
    assert (mics["overhead_l"].pan, mics["overhead_r"].pan) == (-0.5, 0.5)
    levelling.mirror(song)
    song.refresh_from_db()
    number = song.current.number
    made = client.post(
        f"/{song.slug}/level/spread/",
        {"base": number, "mic": "overhead_r", "balance_percent": "20"},
        "application/json",
    ).json()
    pans = [made["sheet"]["mics"][m]["pan"] for m in ("overhead_l", "overhead_r")]
    assert pans == pytest.approx([0.7, -0.3])
    assert levelling.revisions.Revision.objects.filter(song=song).last().label == (  # type: ignore[union-attr]
        "overheads 50% wide, 20% right"
    )


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("snare_top", "0.5"), "“snare top” is no side of a pair."),
        (("overhead_l", "1.5"), "Width goes from 0 to 1"),
        (("overhead_l", "0.5", "--balance", "nan"), "Width goes from 0 to 1"),
    ],
)
def test_what_is_no_width_is_said(
    paired: Song, capsys: pytest.CaptureFixture[str], words: tuple[str, ...], said: str
) -> None:
    assert cli.main(["width", paired.slug, *words]) == 1
    assert said in capsys.readouterr().err
