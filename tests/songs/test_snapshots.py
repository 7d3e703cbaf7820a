"""Snapshots: named, gone back to across branches, removed; and why a change was made."""

import json
from pathlib import Path

import pytest
from django.test import Client

from arkund import cli
from arkund.bench import history
from arkund.core.errors import ArkundError
from arkund.songs import revisions, snapshots
from arkund.songs.models import Song
from tests.making import small_song

pytestmark = pytest.mark.django_db

PLATE = {"buses.plate": {"sends": {"snare_top": {"db": -3}}, "fader_db": -12}}


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def kept(song: Song, patch: dict[str, object]) -> None:
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, patch)
    song.refresh_from_db()


def test_one_goes_back_to_a_state_whole_and_forward_again(song: Song) -> None:
    kept(song, {"mics.snare_top.trim_db": 3, **PLATE})
    snapshots.name_present(song, "  with   the plate ")
    wanted = song.current.sheet  # type: ignore[union-attr]
    kept(song, {"buses.plate": None, "mics.kick_in.chain.s1": {"kind": "saturation"}})
    kept(song, {"mics.snare_top.trim_db": 1, "tempo.bpm": 97})
    before = song.current.sheet  # type: ignore[union-attr]
    made = snapshots.go_back(song, "with the plate")
    assert made.sheet == wanted
    assert made.label == "Back to 2: with the plate"
    # It is a change as any other: undo takes it away, taking it back too.
    assert revisions.undo(song.pk).sheet == before
    revisions.redo(song.pk)
    assert revisions.take_back(song.pk, made.number).sheet == before


def test_a_state_on_a_branch_that_was_left_is_still_there(song: Song) -> None:
    kept(song, {"mics.snare_top.trim_db": 3})
    revisions.undo(song.pk)
    kept(song, {"mics.kick_in.trim_db": -2})
    made = snapshots.go_back(song, "2")
    assert made.sheet.mics["snare_top"].trim_db == 3
    assert made.sheet.mics["kick_in"].trim_db == 0
    song.refresh_from_db()
    with pytest.raises(ArkundError, match="is the present one already"):
        snapshots.go_back(song, "2")


def test_a_name_moves_and_goes_and_numbers_are_none(song: Song) -> None:
    snapshots.name_present(song, "loud")
    kept(song, {"mics.snare_top.trim_db": 3})
    snapshots.name_present(song, "loud")
    assert snapshots.revision_of(song, "loud").number == 2
    snapshots.remove(song, "loud")
    for called, said in (
        ("loud", "no snapshot “loud”. Snapshots: none"),
        ("77", "There are 1 to 2"),
    ):
        with pytest.raises(ArkundError, match=said):
            snapshots.revision_of(song, called)
    for name in ("", " ", "12", "x" * 61):
        with pytest.raises(ArkundError, match="1 to 60 characters"):
            snapshots.name_present(song, name)


def test_a_hand_says_why_and_a_finding_keeps_its_reason(song: Song) -> None:
    kept(song, {"mics.snare_top.trim_db": 3})
    assert revisions.explain(song, 2, " too\n soft ").reason == "too soft"
    assert song.current is not None
    revisions.keep(song.pk, 2, {"mics.kick_in.trim_db": 1}, finding="level.trim:kick_in")
    for number in (3, 9):
        with pytest.raises(ArkundError, match="Only what you have changed yourself"):
            revisions.explain(song, number, "x")


def test_by_commands(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    kept(song, {"mics.snare_top.trim_db": 3})
    assert cli.main(["snapshot", song.slug, "hotter", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["snapshots"][0]["name"] == "hotter"
    kept(song, {"mics.snare_top.trim_db": 0})
    assert cli.main(["snapshot", song.slug, "hotter", "--back"]) == 0
    assert cli.main(["snapshot", song.slug, "hotter", "--remove"]) == 0
    assert cli.main(["snapshot", song.slug, "--back"]) == 1
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.sheet.mics["snare_top"].trim_db == 3


def test_the_log_is_sifted_and_looks_back(song: Song, client: Client) -> None:
    kept(song, {"mics.snare_top.trim_db": 3})
    kept(song, {"mics.kick_in.trim_db": 1})

    def sent(what: str, **asked: object) -> int:
        answer = client.post(f"/{song.slug}/{what}/", json.dumps(asked), "application/json")
        return answer.status_code

    assert sent("snapshot/name", name="<b>loud</b>") == 200
    assert sent("why", number=3, why="the kick was behind") == 200
    page = client.get(f"/{song.slug}/log/?of=mics.kick_in").content.decode()
    assert "1 of 3 changes" in page
    assert "the kick was behind" in page
    assert "&lt;b&gt;loud&lt;/b&gt;" in page
    assert "snare top: trim" not in page
    assert "0 of 3 changes" in client.get(f"/{song.slug}/log/?by=print").content.decode()
    assert sent("go-back", called="2") == 200
    assert sent("go-back", called="nothing") == 400
    assert sent("snapshot/forget", name="<b>loud</b>") == 200
    assert sent("snapshot/name", name="") == 400
    assert sent("why", number=1, why=5) == 400


def test_the_log_shows_the_latest_and_all_on_demand(
    song: Song, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("arkund.bench.stations.log.LINES", 2)
    for db in (1.0, 2.0, 3.0):
        song.refresh_from_db()
        assert song.current is not None
        revisions.keep(song.pk, song.current.number, {"mics.snare_top.trim_db": db})
    song.refresh_from_db()
    page = client.get(f"/{song.slug}/log/").content.decode()
    total = song.revisions.count()
    assert f"{total - 2} earlier" in page
    assert "all=1" in page
    whole = client.get(f"/{song.slug}/log/?all=1").content.decode()
    assert "all=1" not in whole


def test_a_comparison_keeps_what_a_hand_set_apart_from_what_findings_did(
    song: Song, client: Client
) -> None:
    for patch, finding in (
        ({"mics.snare_top.trim_db": 2.0}, "level.trim:snare_top"),
        ({"mics.snare_top.chain.x": {"kind": "limiter"}}, ""),
        ({"mics.snare_top.trim_db": 3.0}, ""),
        ({"mics.kick_in.trim_db": -1.0}, "level.trim:kick_in"),
    ):
        song.refresh_from_db()
        assert song.current is not None
        revisions.keep(song.pk, song.current.number, patch, finding=finding)
    found = history.comparison(Song.objects.get(), 1, 5)
    by_hand, by_findings = ({row["path"] for row in part["rows"]} for part in found["apart"])
    assert by_findings == {"mics.kick_in.trim_db"}
    assert "mics.snare_top.trim_db" in by_hand  # a hand had the last word
    assert any(path.startswith("mics.snare_top.chain.x.") for path in by_hand)
    trim = next(r for r in found["differences"] if r["path"] == "mics.snare_top.trim_db")
    assert trim["made_by"].number == 4
    # Back on another branch: what was undone on the way differs, too.
    for _ in range(4):
        revisions.undo(song.pk)
    revisions.keep(song.pk, 1, {"mics.snare_top.pan": 0.5})
    other = history.comparison(Song.objects.get(), 5, 6)
    assert {row["made_by"].number for row in other["differences"]} == {3, 4, 5, 6}
    page = client.get(f"/{song.slug}/compare/?a=1&b=5").content.decode()
    assert "Set by hand" in page
    assert "By findings: 1" in page
