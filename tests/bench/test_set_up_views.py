"""Load-in's page and what it asks for: set-up, tempo, takes; and copying."""

import json
from pathlib import Path

import pytest
from django.test import Client

from arkund.bench.stations.load_in import picture as load_in
from arkund.songs import facts, jobs
from arkund.songs.models import Job, Song
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in", takes=2)


def _post(client: Client, url: str, data: object) -> tuple[int, dict]:
    answer = client.post(url, json.dumps(data), content_type="application/json")
    return answer.status_code, answer.json()


def test_the_plan_leads_each_mic_to_what_it_hears(song: Song) -> None:
    sheet = sheet_of(song)
    rows = facts.mic_files(sheet)
    shown = load_in.context(sheet, "kick_in", rows)
    lines = {(n["family"], n["chosen"]): n for n in shown["floor"]["lines"]}
    # The mic in hand shows its bleed as well, thinner and as foreign; the other only its loudest.
    assert set(lines) == {("kick", True), ("snare", True), ("snare", False)}
    assert lines["kick", True]["width"] > 2 * lines["snare", True]["width"]
    assert (lines["kick", True]["own"], lines["snare", True]["own"]) == (True, False)
    assert [h["label"] for h in shown["heard"]] == ["kick", "snare"]
    names = {c["mic"]: c["taken"] for c in shown["choices"]["kick"]}
    assert names == {"kick_in": "kick_in", "kick_out": "", "kick_sub": ""}
    assert {"hat", "ride", "tom_1", "bed", "overhead_l"} <= {c["mic"] for c in shown["choices"][""]}


def test_distances_say_what_delay_to_expect(client: Client, song: Song) -> None:
    _, made = _post(
        client, f"/{song.slug}/set-up/", {"base": 1, "names": {"snare_top": "kick_out"}}
    )
    jobs.run_job.call_local(made["job"])
    song.refresh_from_db()
    typed = {"mics.kick_in.distance_cm": 5, "mics.kick_out.distance_cm": 48}
    assert load_in.expected(sheet_of(song), "kick_in") == []
    (found,) = load_in.expected(sheet_of(song, patch=typed), "kick_in")
    assert (found["mic"], found["reference"]) == ("kick out", "kick in")
    assert found["expected_ms"] == pytest.approx(0.43 / 343.2 * 1000, abs=0.01)
    pair = facts.pairs(song)["pairs"][0]
    assert found["measured_ms"] == pytest.approx(pair["delay_samples"] / 48, abs=0.006)


def test_a_set_up_becomes_a_job_and_a_revision(client: Client, song: Song) -> None:
    status, made = _post(
        client, f"/{song.slug}/set-up/", {"base": 1, "names": {"snare_top": "tom_1"}}
    )
    assert status == 200
    jobs.run_job.call_local(made["job"])
    job = client.get(f"/jobs/{made['job']}/").json()
    assert job["state"] == "done"
    assert job["result"]["label"] == "Set-up: snare top is tom 1"
    page = client.get(f"/{song.slug}/load-in/?mic=tom_1").content.decode()
    assert "Snare Top.wav" in page
    # From a revision that is no longer the present one nothing is changed.
    _, late = _post(client, f"/{song.slug}/set-up/", {"base": 1, "names": {"tom_1": "hat"}})
    jobs.run_job.call_local(late["job"])
    assert Job.objects.get(pk=late["job"]).state == Job.State.FAILED
    assert "changed elsewhere" in Job.objects.get(pk=late["job"]).message


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"base": 1}, "Say what is to be different"),
        ({"names": {"hat": "ride"}}, "Say what is to be different"),
        ({"base": 1, "names": ["hat"]}, "Say what is to be different"),
        ({"base": 1, "names": {"kick_in": "<b>"}}, "is not a role"),
        ({"base": 1, "files": [{"mic": "hat"}]}, "A file needs its name"),
        (
            {"base": 1, "files": [{"mic": "hat", "name": "a", "take": "x"}]},
            "take is a whole number",
        ),
    ],
)
def test_senseless_set_ups_get_a_sentence(
    client: Client, song: Song, data: dict, words: str
) -> None:
    status, answer = _post(client, f"/{song.slug}/set-up/", data)
    assert status == 400
    assert words in answer["error"]
    assert Job.objects.count() == 0


def test_count_in_click_and_offsets(client: Client, song: Song) -> None:
    _, made = _post(client, f"/{song.slug}/tempo/count-in/", {"beats": 2})
    first = min(h.time_s for h in facts.hits_of(sheet_of(song)))
    assert made["sheet"]["tempo"]["first_downbeat_s"] == pytest.approx(first + 1.0, abs=1e-4)
    assert _post(client, f"/{song.slug}/tempo/count-in/", {"beats": "x"})[0] == 400
    assert (
        "1 to 32 beats" in _post(client, f"/{song.slug}/tempo/count-in/", {"beats": 99})[1]["error"]
    )
    assert "no click" in _post(client, f"/{song.slug}/tempo/click/", {})[1]["error"]
    _, moved = _post(client, f"/{song.slug}/offset/", {"base": 2, "take": 2, "ms": 12.5})
    assert moved["sheet"]["takes"][1]["offset"] == 600
    assert moved["label"] == "Take 2 begins 12.50 ms before the song"
    _, lined = _post(client, f"/{song.slug}/offset/", {"base": 3})
    assert lined["sheet"]["takes"][1]["offset"] == 0
    assert _post(client, f"/{song.slug}/offset/", {"base": 4, "take": 2, "ms": "x"})[0] == 400


def test_copies_by_bars_and_by_hit(client: Client, song: Song) -> None:
    bars = {"take": 2, "first": 1, "last": 1, "to_bar": 3, "times": 1}
    _, made = _post(client, f"/{song.slug}/copy/", bars | {"base": 1})
    assert made["label"] == "bar 1 of take 2 copied over bar 3"
    shown = client.get(f"/{song.slug}/picture/takes/").json()
    assert shown["copies"][0]["place"] == "bar 3"
    a, b = (h.id for h in facts.hits_of(sheet_of(song))[:2])
    assert _post(client, f"/{song.slug}/copy/", {"base": 2, "id": a, "over": b})[0] == 200
    assert _post(client, f"/{song.slug}/copy/", {"base": 3, "id": a})[0] == 400
    assert _post(client, f"/{song.slug}/copy/", bars | {"base": 3, "times": "many"})[0] == 400
    status, refused = _post(client, f"/{song.slug}/copy/", bars | {"base": 1})
    assert status == 409
    assert "changed elsewhere" in refused["error"]


def test_a_value_that_is_refused_is_named_as_on_the_page(client: Client, song: Song) -> None:
    keep = f"/{song.slug}/keep/"
    _, tempo = _post(client, keep, {"base": 1, "patch": {"tempo.bpm": 9000}})
    assert tempo["error"].startswith("Tempo of the song refused: it should be less than")
    sections = [{"name": "verse", "start_bar": 1, "bars": -2}]
    _, bars = _post(client, keep, {"base": 1, "patch": {"sections": sections}})
    assert bars["error"].startswith("Bars of section 1 refused")
