"""The findings column, the school, the first pass, log and comparison, as the browser asks."""

import time
from dataclasses import replace
from pathlib import Path

import pytest
from django.test import Client

from arkund.core.advise.finding import Change, Way
from arkund.core.sheet.patches import read_path
from arkund.songs import counting, findings, first_pass
from arkund.songs.models import Job, Song
from tests.making import small_song

pytestmark = pytest.mark.django_db(transaction=True)
JSON = "application/json"


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


@pytest.fixture
def client() -> Client:
    return Client(headers={"host": "127.0.0.1"})


@pytest.fixture(autouse=True)
def asked(monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """Songs that the background was asked to count. It is not run beside a test: the test
    database, in memory, locks whole tables between threads. The browser tests run it for real."""
    wanted: list[int] = []
    monkeypatch.setattr(counting, "want", wanted.append)
    return wanted


def _listed(client: Client, song: Song, station: str) -> dict:
    """What the page gets once the background has counted."""
    counting._count(song.pk)
    found: dict = client.get(f"/{song.slug}/findings/?station={station}").json()
    assert found["counting"] == 0
    return found


def test_a_page_never_waits_for_a_finding(client: Client, song: Song, asked: list[int]) -> None:
    first = client.get(f"/{song.slug}/findings/?station=level").json()
    assert first["counting"] > 0
    assert first["findings"] == []
    assert asked == [song.pk]
    found = _listed(client, song, "level")
    assert asked == [song.pk]
    assert found["findings"]
    assert {f["station"] for f in found["findings"]} == {"level"}
    assert found["counts"]["level"] == len(found["findings"])
    assert set(found["pieces"]) <= {"kick", "snare"}


def test_shape_lists_eq_and_dynamics_together(client: Client, song: Song) -> None:
    found = _listed(client, song, "dynamics")
    assert {f["module"] for f in found["findings"]} == {"eq", "dynamics"}
    assert found["counts"]["eq"] == len(found["findings"])


def test_apply_decline_and_open_again(client: Client, song: Song) -> None:
    one, two = _listed(client, song, "eq")["findings"][:2]
    made = client.post(f"/{song.slug}/findings/apply/", {"finding": one["id"], "base": 1}, JSON)
    assert made.json()["revision"] == 2
    path, value = next(iter(one["proposal"].items()))
    song.refresh_from_db()
    assert made.json()["sheet"]["mics"] == song.current.sheet.model_dump(mode="json")["mics"]
    assert read_path(song.current.sheet, path) == value

    url = f"/{song.slug}/findings/decline/"
    refused = client.post(url, {"finding": two["id"], "reason": ""}, JSON)
    assert (refused.status_code, "in a word" in refused.json()["error"]) == (400, True)
    client.post(url, {"finding": two["id"], "reason": "by ear it is fine"}, JSON)
    states = {f["id"]: f["state"] for f in _listed(client, song, "eq")["findings"]}
    assert (states[one["id"]], states[two["id"]]) == ("applied", "declined")
    client.post(f"/{song.slug}/findings/reopen/", {"finding": two["id"]}, JSON)
    states = {f["id"]: f["state"] for f in _listed(client, song, "eq")["findings"]}
    assert states[two["id"]] == "open"


def test_another_way_is_applied_where_a_finding_has_one(
    client: Client, song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    finding = replace(
        findings.all_findings(song)[0],
        proposal={"mics.kick_in.trim_db": -3.0},
        others=[
            Way("half", "Half of it.", {"mics.kick_in.trim_db": -1.5}, {"peak_dbfs": Change(0, -1)})
        ],
    )
    monkeypatch.setattr(findings, "find_by_id", lambda song, asked: finding)
    url, base = f"/{song.slug}/findings/apply/", song.current.number
    asked = {"finding": finding.id, "base": base}
    wrong = client.post(url, asked | {"way": 2}, JSON)
    assert wrong.status_code == 400
    assert wrong.json()["error"] == "The finding has 2 ways; way 3 is not one of them."
    assert client.post(url, asked | {"way": -1}, JSON).status_code == 400
    assert client.post(url, asked | {"way": 1}, JSON).status_code == 200
    song.refresh_from_db()
    assert song.current.sheet.mics["kick_in"].trim_db == -1.5
    assert song.current.reason.endswith("Chosen instead: Half of it.")


@pytest.mark.parametrize("body", [{}, {"finding": 7}, {"finding": "eq.body:nobody", "base": 1}])
def test_answers_without_sense_are_refused_in_a_sentence(
    client: Client, song: Song, body: dict
) -> None:
    answer = client.post(f"/{song.slug}/findings/apply/", body, JSON)
    assert answer.status_code == 400
    assert answer.json()["error"][-1] in ".?"


def test_an_answer_from_an_old_page_is_a_conflict(client: Client, song: Song) -> None:
    one = _listed(client, song, "eq")["findings"][0]
    client.post(f"/{song.slug}/keep/", {"patch": {"mics.kick_in.pan": 0.1}, "base": 1}, JSON)
    answer = client.post(f"/{song.slug}/findings/apply/", {"finding": one["id"], "base": 1}, JSON)
    assert answer.status_code == 409


def test_a_kept_value_can_answer_a_finding(client: Client, song: Song) -> None:
    one = _listed(client, song, "eq")["findings"][0]
    client.post(
        f"/{song.slug}/keep/",
        {"patch": one["proposal"], "base": 1, "station": "eq", "finding": one["id"]},
        JSON,
    )
    states = {f["id"]: f["state"] for f in _listed(client, song, "eq")["findings"]}
    assert states[one["id"]] == "changed"


def test_school_by_name_row_and_own_name(client: Client, song: Song) -> None:
    url = f"/{song.slug}/school/"
    assert client.post(url, {"name": "tight"}, JSON).json()["school"]["toms"] == "strip"
    assert (
        client.post(url, {"row": "toms", "answer": "leave"}, JSON).json()["school"]["toms"]
        == "leave"
    )
    assert client.post(url, {"save": "Cellar"}, JSON).json()["school"]["name"] == "Cellar"
    assert client.post(url, {"row": "toms", "answer": "x"}, JSON).status_code == 400
    page = " ".join(client.get(f"/{song.slug}/first-pass/").content.decode().split())
    assert 'data-school="Cellar" aria-pressed="true"' in page


def test_a_first_pass_does_not_wait_for_its_preview(client: Client, song: Song) -> None:
    start = f"/{song.slug}/first-pass/start/"
    preview = client.post(start, {"preview": True}, JSON).json()["job"]
    made = client.post(start, {}, JSON).json()["job"]
    assert Job.objects.get(pk=made).kind == "first-pass"
    gone = Job.objects.get(pk=preview)
    assert gone.cancel_asked
    assert gone.state == Job.State.CANCELLED
    # A preview asked for while the pass runs is that pass: the page shows how far it is.
    assert client.post(start, {"preview": True}, JSON).json()["job"] == made


def test_one_first_pass_at_a_time(client: Client, song: Song) -> None:
    first = client.post(f"/{song.slug}/first-pass/start/", {}, JSON).json()["job"]
    second = client.post(f"/{song.slug}/first-pass/start/", {}, JSON).json()["job"]
    assert first == second
    assert Job.objects.filter(kind="first-pass").count() == 1


def test_the_pass_is_reported_with_what_still_stands(client: Client, song: Song) -> None:
    report = first_pass.run(song)
    Job.objects.create(kind="first-pass", song=song, state=Job.State.DONE, result=report)
    page = client.get(f"/{song.slug}/first-pass/").content.decode()
    assert page.count("data-take-back") == len(report["applied"])
    assert "LUFS" in page
    client.post(f"/{song.slug}/undo/", {}, JSON)
    page = client.get(f"/{song.slug}/first-pass/").content.decode()
    assert page.count("data-take-back") == len(report["applied"]) - 1
    assert "(undone)" in page


def test_the_log_shows_reason_and_paired_figures(client: Client, song: Song) -> None:
    finding = next(f for f in findings.all_findings(song) if f.kind == "eq.high_pass")
    findings.apply(song, 1, finding)
    page = client.get(f"/{song.slug}/log/").content.decode()
    assert finding.reason in page
    change = finding.gain["below_dbfs"]
    assert f"{change.now:.1f} → {change.then:.1f}".replace("-", "−") in page


def test_comparison_names_every_value_that_differs(client: Client, song: Song) -> None:
    patch = {"mics.kick_in.trim_db": -3.0, "mics.snare_top.chain.eq.bands.b2.gain_db": 2.0}
    client.post(f"/{song.slug}/keep/", {"patch": patch, "base": 1}, JSON)
    page = client.get(f"/{song.slug}/compare/?a=1&b=2").content.decode()
    assert "2 values differ" in page
    assert "−3 dB" in page
    assert "band 2" in page
    same = client.get(f"/{song.slug}/compare/?a=2&b=2").content.decode()
    assert "The two sheets are the same." in same
    assert client.get(f"/{song.slug}/compare/?a=9").status_code == 400


@pytest.mark.parametrize("station", ["first-pass", "compare", "log", "bus"])
def test_pages_of_the_pass_load_within_their_time(client: Client, song: Song, station: str) -> None:
    def seconds() -> float:
        began = time.perf_counter()
        assert client.get(f"/{song.slug}/{station}/").status_code == 200
        return time.perf_counter() - began

    # The best of three: what else runs on a shared test machine only ever adds.
    assert min(seconds() for _ in range(3)) < 1.0
