"""Pages and data for the browser."""

import json
import re
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import numpy as np
import pytest
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund import bench, cli
from arkund.bench.stations.registry import STATIONS
from arkund.core.render.faults import BrokenSound
from arkund.songs import first_pass, revisions, storage
from arkund.songs.models import Job, Song, StagedFile
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def _json(client: Client, url: str, data: dict) -> tuple[int, dict]:
    answer = client.post(url, json.dumps(data), content_type="application/json")
    return answer.status_code, answer.json()


@pytest.mark.parametrize("station", STATIONS)
def test_every_station_opens_under_a_strict_policy(
    client: Client, song: Song, station: str
) -> None:
    answer = client.get(f"/{song.slug}/{station}/?mic=snare_top&bars=1-2")
    assert answer.status_code == 200
    policy = answer["Content-Security-Policy"]
    assert "default-src 'none'" in policy
    assert "unsafe" not in policy
    text = answer.content.decode()
    assert " style=" not in text
    assert "<style" not in text
    scripts = [part.split(">")[0] for part in text.split("<script")[1:]]
    assert all("src=" in s or 'type="application/json"' in s for s in scripts)


@pytest.mark.parametrize("station", ["edit", "align", "level", "clean", "eq", "dynamics", "bus"])
@pytest.mark.parametrize("mic", ["kick_in", "snare_top"])
def test_every_picture_can_be_drawn(client: Client, song: Song, station: str, mic: str) -> None:
    answer = client.get(f"/{song.slug}/picture/{station}/?mic={mic}&bars=1-2")
    assert answer.status_code == 200
    picture = json.loads(json.dumps(answer.json(), allow_nan=False))
    page = client.get(f"/{song.slug}/{station}/?mic={mic}&bars=1-2").content.decode()
    # Of an EQ the page has the rulers of the band in hand.
    assert [p for p in picture["rulers"] if p.split(".bands.")[0] not in page] == []
    assert len(picture) > 1, "a picture has more than its rulers' marks"


def test_a_try_changes_the_picture_and_stores_nothing(client: Client, song: Song) -> None:
    url = f"/{song.slug}/picture/clean/?mic=snare_top&bars=1-4"
    patch = {"mics.snare_top.clean.on": True, "mics.snare_top.clean.range_db": -20}
    plain = client.get(url).json()
    tried = client.get(url, {"mic": "snare_top", "bars": "1-4", "patch": json.dumps(patch)}).json()
    assert plain["report"] == {}
    assert plain["openings"] == []
    assert tried["report"]["passed"] == tried["report"]["hits"] == 8
    assert tried["report"]["bleed_reduction_db"] == pytest.approx(20, abs=1)
    assert len(tried["openings"]) >= 7
    assert song.revisions.count() == 1


def test_pcm_is_the_sound(client: Client, song: Song) -> None:
    url = f"/{song.slug}/pcm/"
    answer = client.get(url, {"start": 0, "frames": 4800, "variant": "recorded"})
    samples = np.frombuffer(answer.content, "<i2").reshape(2, 4800)
    assert answer["X-Channels"] == "2"
    from arkund.songs.rendering import render_span

    wanted = render_span(song.current.sheet, "output", "recorded", 0, 4800)  # type: ignore[union-attr]
    scale = float(answer["X-Scale"])
    assert np.abs(samples.T / 32767 * scale - wanted).max() < 2 / 32768
    mono = client.get(url, {"start": 0, "frames": 100, "node": "kick_in"})
    assert mono["X-Channels"] == "1"
    assert len(mono.content) == 200


def test_peaks_over_full_scale_arrive_whole(client: Client, song: Song) -> None:
    patch = json.dumps({"mics.kick_in.trim_db": 24})
    answer = client.get(f"/{song.slug}/pcm/", {"start": 0, "frames": 48000, "patch": patch})
    samples = np.frombuffer(answer.content, "<i2")
    assert float(answer["X-Scale"]) > 1
    assert np.abs(samples).max() == 32767


@pytest.mark.parametrize(
    "query",
    [
        {},
        {"start": "x", "frames": 5},
        {"start": 0, "frames": 10**9},
        {"start": 10**9, "frames": 10},
        {"start": 0, "frames": 10, "variant": "later"},
        {"start": 0, "frames": 10, "node": "tuba"},
        {"start": 0, "frames": 10, "rev": 99},
        {"start": 0, "frames": 10, "patch": "{"},
    ],
)
def test_senseless_spans_get_a_sentence(client: Client, song: Song, query: dict) -> None:
    answer = client.get(f"/{song.slug}/pcm/", query)
    assert answer.status_code == 400
    assert answer.json()["error"].endswith(".")


def test_lanes_show_overview_and_samples(client: Client, song: Song) -> None:
    url = f"/{song.slug}/lanes/"
    wide = client.get(
        url, {"start": 0, "frames": 384000, "columns": 100, "mics": "kick_in,snare_top"}
    )
    assert len(wide.content) == 2 * 100 * 4
    near = client.get(url, {"start": 0, "frames": 64, "columns": 64, "mics": "kick_in"})
    values = np.frombuffer(near.content, "<i2").reshape(64, 2)
    assert np.array_equal(values[:, 0], values[:, 1])
    assert values.any()


def test_keep_undo_redo_and_conflict(client: Client, song: Song) -> None:
    keep = f"/{song.slug}/keep/"
    status, made = _json(client, keep, {"patch": {"mics.kick_in.trim_db": -3}, "base": 1})
    assert (status, made["revision"]) == (200, 2)
    assert made["sheet"]["mics"]["kick_in"]["trim_db"] == -3
    status, refused = _json(client, keep, {"patch": {"mics.kick_in.trim_db": 1}, "base": 1})
    assert status == 409
    assert refused["changed"] == ["kick in: trim 0 dB → −3 dB"]
    assert _json(client, f"/{song.slug}/undo/", {})[1]["revision"] == 1
    assert _json(client, f"/{song.slug}/redo/", {})[1]["revision"] == 2
    assert _json(client, f"/{song.slug}/take-back/", {"revision": 2})[1]["revision"] == 3
    assert _json(client, keep, {"patch": {"mics.kick_in.trim_db": 99}, "base": 3})[0] == 400
    assert _json(client, keep, {"patch": {}, "base": 3})[0] == 400


def test_posts_from_elsewhere_are_refused(song: Song) -> None:
    strict = Client(enforce_csrf_checks=True)
    data = json.dumps({"patch": {"mics.kick_in.trim_db": -3}, "base": 1})
    url = f"/{song.slug}/keep/"
    assert strict.post(url, data, content_type="application/json").status_code == 403
    foreign = Client().post(
        url, data, content_type="application/json", headers={"Sec-Fetch-Site": "cross-site"}
    )
    assert foreign.status_code == 403
    assert Client().get("/", headers={"Host": "evil.example"}).status_code == 400
    assert song.revisions.count() == 1


def test_uploads_are_examined_one_by_one(client: Client, data: Path, tmp_path: Path) -> None:
    small_song(tmp_path / "in", "unused")
    token = "a" * 24
    url = f"/staging/{token}/"
    good = (tmp_path / "in" / "Kick In.wav").read_bytes()
    answer = client.post(url, {"file": SimpleUploadedFile("Kick In.wav", good)}).json()
    assert answer["files"][0]["mic"] == "kick_in"
    bad = SimpleUploadedFile("../../Snare.wav", b"RIFF....")
    answer = client.post(url, {"file": bad, "name": "../../Snare.wav"}).json()
    snare = next(f for f in answer["files"] if "Snare" in f["name"])
    assert "not sound" in snare["refusal"]
    inside = {p.resolve().parent.parent.name for p in data.rglob("*.wav") if "staging" in str(p)}
    assert inside == {"staging"}
    status, made = _json(
        client, f"{url}make/", {"name": "New", "files": [{"name": "Kick In.wav", "mic": "kick_in"}]}
    )
    assert status == 200
    assert Job.objects.get(pk=made["job"]).params["name"] == "New"


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"name": ""}, "name"),
        ({"files": []}, "Drop the mics"),
        ({"tempo": "fast"}, "not a number"),
        ({"tempo": "9000"}, "between 20 and 400"),
        ({"meter": "4/5"}, "not a meter"),
        ({"files": [{"name": "a", "mic": "tuba"}]}, "not a role"),
    ],
)
def test_a_new_song_says_what_is_missing(client: Client, change: dict, words: str) -> None:
    data = {"name": "x", "files": [{"name": "a.wav", "mic": "hat"}]} | change
    status, answer = _json(client, f"/staging/{'b' * 24}/make/", data)
    assert status == 400
    assert words in answer["error"]
    assert StagedFile.objects.count() == 0


def test_no_song_is_no_dead_end(client: Client) -> None:
    assert "Drop a folder of drum mics" in client.get("/").content.decode()
    missing = client.get("/nothing/edit/", headers={"Accept": "text/html"})
    assert missing.status_code == 404
    assert "All songs" in missing.content.decode()


def test_print_is_queued_and_refuses_nonsense(client: Client, song: Song) -> None:
    url = f"/{song.slug}/print/start/"
    wanted = {"stems": ["mix"], "format": "flac", "tap": "bus", "pattern": "{n:02} {name}"}
    status, made = _json(client, url, wanted)
    assert status == 200
    job = Job.objects.get(pk=made["job"])
    assert job.params == {"revision": 1, "left_out": [], **wanted}
    assert client.get(f"/jobs/{job.pk}/").json()["state"] == "queued"
    # What was chosen last is chosen when the page comes again.
    page = client.get(f"/{song.slug}/print/").content.decode()
    assert 'value="{n:02} {name}"' in page
    assert '<option value="bus" selected>' in page
    ticked = re.findall(r'name="stems" value="(\w+)"\s+checked', page)
    assert ticked == ["mix"]
    _json(client, f"/jobs/{job.pk}/cancel/", {})
    assert client.get(f"/jobs/{job.pk}/").json()["state"] == "cancelled"
    for wrong in (
        {"stems": []},
        {"stems": ["roof"]},
        {"tap": "later"},
        {"format": "mp9"},
        {"pattern": "{0.__class__}"},
        {"pattern": "../{name}"},
        {"pattern": "all alike"},
        {"tap": "edited", "stems": ["mix"]},
    ):
        assert _json(client, url, wrong)[0] == 400, wrong


def test_what_would_be_printed_is_shown_before(client: Client, song: Song) -> None:
    url = f"/{song.slug}/print/forecast/"

    def shown(**asked: Any) -> str:
        return client.post(url, json.dumps(asked), "application/json").content.decode()

    every = shown(stems=["mics"], pattern="{n:02} {name}")
    assert "01 kick_in.wav" in every
    fewer = shown(stems=["mics"], pattern="{n:02} {name}", left_out=["kick_in"])
    assert "01 snare_top.wav" in fewer
    assert "kick_in.wav" in fewer  # to be ticked again
    assert "Give the pattern a {name} or {n}" in shown(pattern="take")
    assert "each { needs its }" in shown(pattern="{name")
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, {"mics.snare_top.mute": True})
    assert "Muted, so printed as silence: snare top." in shown(stems=["mics"])


def test_a_tempo_is_tapped(client: Client, song: Song) -> None:
    url = f"/{song.slug}/tempo/tapped/"
    tapped = client.post(url, {"times_ms": [100, 700, 1300, 1900]}, "application/json").json()
    assert tapped == {"bpm": 100.0}
    assert client.post(url, {"times_ms": [100]}, "application/json").json() == {"bpm": None}
    refused = client.post(url, {"times_ms": ["soon"]}, "application/json")
    assert refused.status_code == 400
    assert refused.json()["error"] == "Tap at least three quarter notes."


def test_a_form_that_a_script_answers_does_nothing_before_the_script_is_there() -> None:
    """A form without a dialog about it, sent by that method, leaves page and values as they are."""
    folder = Path(bench.__file__).parent
    forms = [
        f for path in folder.rglob("*.html") for f in re.findall("<form[^>]*", path.read_text())
    ]
    assert len(forms) > 10
    assert [f for f in forms if "method=" not in f] == []
    by_script = [f for f in forms if re.search(r"\s(id|data-[a-z-]+)=", f)]
    assert len(by_script) > 8
    assert [f for f in by_script if 'method="dialog"' not in f] == []


def test_sound_that_is_no_number_is_said_and_not_written(
    client: Client, song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    source = song.current.sheet.takes[0].sources["kick_in"]  # type: ignore[union-attr]
    path = storage.sound_path(source.sha256)
    sound, rate = sf.read(path)
    sound[rate] = np.inf
    sf.write(path, sound, rate, subtype="FLOAT", format="WAV")
    answer = client.get(f"/{song.slug}/pcm/?start=0&frames={2 * rate}")
    assert answer.status_code == 200
    said = unquote(answer["X-Broken"])
    assert said.startswith(
        "Kick in: the sound is not a number from 1.00 s on and plays as silence."
    )
    out = tmp_path / "loop.wav"
    assert cli.main(["render", song.slug, "-o", str(out)]) == 1
    assert said in capsys.readouterr().err
    assert not out.exists()
    with pytest.raises(BrokenSound, match="Kick in"):
        first_pass.run(song)
