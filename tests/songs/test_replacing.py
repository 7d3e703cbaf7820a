"""Layers, sub layers and even hits on stored songs, by function and from the command line."""

import json
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.exchange.sfz import read_sfz
from arkund.core.sheet.layers import SampleLayer
from arkund.songs import prints, replacing, revisions, storage, sweeping
from arkund.songs.models import Song
from arkund.songs.wording import path_words

pytestmark = pytest.mark.django_db(transaction=True)


def _run(capsys: pytest.CaptureFixture[str], *words: str) -> Any:
    capsys.readouterr()
    assert cli.main([*words, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def test_harvest_ranks_and_writes_what_it_ranks(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    found = _run(capsys, "harvest", song.slug, "snare", "-o", str(tmp_path / "kit"))
    isolation = [c["isolation_db"] for c in found["candidates"]]
    assert isolation == sorted(isolation, reverse=True)
    assert len(found["candidates"]) <= found["hits"]
    assert found["mic"] == "snare_top"
    frames = {c["frames"] for c in found["candidates"]}
    for file in found["files"]:
        sound, rate = sf.read(file)
        assert rate == 48000
        assert len(sound) in frames
        assert np.abs(sound).max() > 0.01
    assert len(found["files"]) == len(list((tmp_path / "kit").iterdir())) > 0


def test_a_layer_a_sub_and_even_hits_are_revisions_that_come_off_again(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    song.refresh_from_db()
    assert song.current is not None
    before = song.current.sheet
    _run(capsys, "layer", song.slug, "snare", "--hits", "all", "--blend-db", "-9")
    _run(capsys, "sub", song.slug, "kick", "--note", "C1")
    made = _run(capsys, "even", song.slug, "snare", "--amount", "0.5")
    assert made["label"] == "Even hits of snare by 50%"
    song.refresh_from_db()
    assert song.current is not None
    sheet = song.current.sheet
    assert {n: layer.fader_db for n, layer in sheet.layers.items()} == {
        "snare_layer": -9,
        "kick_sub": -12,
    }
    assert sheet.mics["snare_top"].even.amount == 0.5
    assert path_words("layers.kick_sub.note_hz", sheet) == ("kick sub", "note", "Hz")
    assert path_words("mics.snare_top.even.amount", sheet)[:2] == ("snare top", "even hits")
    for _ in range(3):
        revisions.undo(song.pk)
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.sheet == before


def test_layers_are_printed_and_the_stems_make_the_sum(song: Song, tmp_path: Path) -> None:
    replacing.layer(song, "snare", hits="all", mode="instead")
    replacing.sub(song, "kick", "50Hz")
    song.refresh_from_db()
    assert song.current is not None
    report = prints.print_to_folder(
        song,
        song.current,
        tmp_path / "out",
        file_format="wav32f",
        progress=lambda share: None,
    )
    layers = [f for f in report.files if "snare_layer" in f or "kick_sub" in f]
    assert len(layers) == 2
    assert report.null_db < -100
    for name in layers:
        assert np.abs(sf.read(tmp_path / "out" / name)[0]).max() > 0.001


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("layer", "gong"), "There is no mic close to “gong”"),
        (("layer", "snare", "--from", "kit.sfz"), "There is no file or folder kit.sfz"),
        (("patch", "nope"), "There is no hit “nope”"),
        (("sub", "kick", "--note", "500Hz"), "from 20 to 200 Hz"),
        (("even", "snare", "--amount", "7"), "a share from 0 to 1"),
        (("harvest", "../../etc"), "There is no mic close to"),
    ],
)
def test_what_cannot_be_is_said(
    song: Song, capsys: pytest.CaptureFixture[str], words: tuple[str, ...], said: str
) -> None:
    command, *rest = words
    assert cli.main([command, song.slug, *rest]) == 1
    assert said in capsys.readouterr().err


def test_the_page_lays_a_layer_and_draws_it(song: Song) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    page = client.get(f"/{song.slug}/replace/?mic=snare_top")
    assert page.status_code == 200
    assert "Add layer" in page.content.decode()
    added = client.post(
        f"/{song.slug}/replace/add/",
        {"base": 1, "mic": "snare_top", "what": "layer"},
        content_type="application/json",
    )
    assert added.json()["sheet"]["layers"]["snare_layer"]["of"] == "snare_top"
    picture = client.get(f"/{song.slug}/picture/replace/?mic=snare_top&bars=1-2").json()
    assert len(picture["rows"]) == sum(s["kind"] in ("accent", "flam") for s in picture["hits"])
    zoom = {k: np.array(picture["zoom"][k]) for k in ("drum", "layer", "sum")}
    assert zoom["drum"] + zoom["layer"] == pytest.approx(zoom["sum"], abs=3e-4)
    html = client.get(f"/{song.slug}/replace/?mic=snare_top").content.decode()
    assert "layers.snare_layer.fader_db" in html


@pytest.mark.parametrize(
    ("asked", "status", "said"),
    [
        ({"base": 1, "mic": "overhead_l", "what": "layer"}, 400, "Layers follow a close mic"),
        ({"base": 1, "mic": "../..", "what": "layer"}, 400, "Layers follow a close mic"),
        ({"base": 1, "mic": "snare_top", "what": "gong"}, 400, "Say which mic"),
        ({"mic": "snare_top", "what": "layer"}, 400, "Say which mic"),
        ({"base": 0, "mic": "snare_top", "what": "sub"}, 409, ""),
    ],
)
def test_hostile_wishes_are_refused(
    song: Song, asked: dict[str, Any], status: int, said: str
) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    answer = client.post(f"/{song.slug}/replace/add/", asked, content_type="application/json")
    assert answer.status_code == status
    assert said in answer.json()["error"]


def test_a_layer_of_a_piece_without_a_clear_hit_is_refused(song: Song) -> None:
    with pytest.raises(ArkundError, match="no mic close"):
        replacing.layer(song, "tom_9")


def test_a_song_s_kit_goes_out_and_comes_back_under_a_drum(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    """Kit → SFZ → kit: the same samples in the same layers."""
    files = _run(capsys, "export", song.slug, "sfz", "-o", str(tmp_path / "kit"))["files"]
    regions, unknown = read_sfz((tmp_path / "kit" / "kit.sfz").read_text())
    assert unknown == []
    assert len(regions) == len(files) - 1
    own = [r for r in regions if r.low_key == 38]
    made = _run(
        capsys,
        "layer",
        song.slug,
        "snare",
        "--from",
        str(tmp_path / "kit" / "kit.sfz"),
        "--hits",
        "all",
    )
    assert made["label"] == "Layer from kit.sfz under snare"
    song.refresh_from_db()
    assert song.current is not None
    layer = song.current.sheet.layers["snare_layer"]
    assert isinstance(layer, SampleLayer)
    assert len(layer.samples) == len(own)
    assert layer.source is not None
    stored = sf.read(storage.find_sound(layer.source), dtype="float32")[0]
    for sample, region in zip(layer.samples, own, strict=True):
        written = sf.read(tmp_path / "kit" / region.sample, dtype="float32")[0]
        kept = stored[sample.at : sample.at + sample.frames]
        best = max(float(np.max(np.correlate(kept, written[300:2000], "valid"))), 0.0)
        assert best == pytest.approx(float(np.sum(written[300:2000] ** 2)), rel=0.02)
    picture = (
        Client(headers={"host": "127.0.0.1"})
        .get(f"/{song.slug}/picture/replace/?mic=snare_top&bars=1-2")
        .json()
    )
    assert len(picture["rows"]) > 3
    # Nothing in use is swept away.
    sweeping.sweep(age_s=0)
    assert storage.find_sound(layer.source) is not None


def test_a_one_shot_recording_is_cut_and_sorted(song: Song, tmp_path: Path) -> None:
    rng = np.random.default_rng(5)
    decay = np.exp(-np.arange(24000) / 3000)
    hits = [level * rng.standard_normal(24000) * decay for level in (0.05, 0.1, 0.2, 0.4, 0.6, 0.8)]
    sf.write(tmp_path / "shots.wav", np.concatenate([np.zeros(9600), *hits]), 48000)
    made = replacing.layer(song, "snare", str(tmp_path / "shots.wav"))
    layer = made.sheet.layers["snare_layer"]
    assert isinstance(layer, SampleLayer)
    assert 4 <= len(layer.samples) <= 6
    stored = sf.read(storage.find_sound(layer.source or ""))[0]
    peaks = [np.abs(stored[s.at : s.at + s.frames]).max() for s in layer.samples]
    assert peaks == sorted(peaks)
    sf.write(tmp_path / "one.wav", np.concatenate([np.zeros(9600), hits[-1]]), 48000)
    with pytest.raises(ArkundError, match="a one-shot recording has several"):
        replacing.layer(song, "snare", str(tmp_path / "one.wav"))
    (tmp_path / "empty").mkdir()
    with pytest.raises(ArkundError, match="no sound in empty"):
        replacing.layer(song, "snare", str(tmp_path / "empty"))
    sf.write(tmp_path / "empty" / "a.wav", np.zeros(4800), 96000)
    with pytest.raises(ArkundError, match="Nothing is heard"):
        replacing.layer(song, "snare", str(tmp_path / "empty"))


def test_a_bad_hit_is_patched_in_all_mics(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    listed = _run(capsys, "hits", song.slug)["hits"]
    bad = next(h for h in listed if h["piece"] == "snare")
    found = _run(capsys, "patch", song.slug, bad["id"], "--matches")
    assert found["matches"][0]["distance"] <= found["matches"][-1]["distance"]
    assert bad["id"] not in [m["hit"] for m in found["matches"]]
    client = Client(headers={"host": "127.0.0.1"})
    answer = client.post(
        f"/{song.slug}/replace/patch/",
        {"base": 1, "hit": bad["id"]},
        content_type="application/json",
    )
    assert answer.status_code == 200
    song.refresh_from_db()
    assert song.current is not None
    (copy,) = song.current.sheet.copies
    assert abs(copy.at / 48000 - bad["time_s"]) < 0.01
    again = client.post(
        f"/{song.slug}/replace/patch/", {"base": 2, "hit": "nope"}, content_type="application/json"
    )
    assert again.status_code == 400


def test_a_sample_is_trimmed_by_page_and_command_and_its_source_stays(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    _run(capsys, "layer", song.slug, "snare")
    song.refresh_from_db()
    assert song.current is not None
    before = song.current.sheet.layers["snare_layer"]
    assert isinstance(before, SampleLayer)
    client = Client(headers={"host": "127.0.0.1"})
    url, asked = (
        f"/{song.slug}/replace/trim/",
        {"base": song.current.number, "layer": "snare_layer"},
    )
    made = client.post(url, {**asked, "number": 2, "length_ms": "60"}, "application/json").json()
    assert made["sheet"]["layers"]["snare_layer"]["samples"][1]["frames"] == round(0.063 * 48000)
    _run(capsys, "sample", song.slug, "snare_layer", "1", "--fade-out-ms", "35")
    picture = client.get(f"/{song.slug}/picture/replace/?mic=snare_top&bars=1-2").json()
    first, second = picture["samples"][:2]
    assert (first["fade_out_ms"], second["length_ms"]) == (35.0, 60.0)
    assert second["decay_ms"] is None or second["decay_ms"] < 60
    assert sum(s["plays"] for s in picture["samples"]) == len(picture["rows"])
    song.refresh_from_db()
    assert song.current is not None
    after = song.current.sheet.layers["snare_layer"]
    assert isinstance(after, SampleLayer)
    assert after.samples[2:] == before.samples[2:]
    asked["base"] = song.current.number
    for wish, said in (
        ({"number": 2, "length_ms": 9000}, "Sample 2 can be 5 to"),
        ({"number": 99, "length_ms": 50}, "99 is none"),
        ({"number": 1, "fade_in_ms": "soon"}, "to how many ms"),
        ({"number": 1, "layer": "kick_layer"}, "no layer of samples"),
        ({"number": 1, "fade_out_ms": -3}, "fades out over 1 to 1000 ms, not -3 ms"),
    ):
        refused = client.post(url, {**asked, **wish}, "application/json")
        assert refused.status_code == 400
        assert said in refused.json()["error"]


def test_the_picture_says_how_a_layer_follows_and_which_hits_are_left_out(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    _run(capsys, "layer", song.slug, "snare", "--hits", "all", "--blend-db", "-9")
    client = Client(headers={"host": "127.0.0.1"})
    url = f"/{song.slug}/picture/replace/?mic=snare_top&bars=1-2"
    drawn = client.get(url).json()
    following = drawn["following"]
    assert sum(following["counts"]) == len(drawn["rows"])
    slope = np.diff(following["curve_db"]) / np.diff(following["edges_db"])
    assert slope == pytest.approx(np.ones(len(slope)), abs=0.06)
    gone = drawn["hits"][-1]["id"]
    _run(capsys, "set", song.slug, "layers.snare_layer.left_out", json.dumps([gone]))
    _run(capsys, "set", song.slug, "layers.snare_layer.following", "0")
    less = client.get(url).json()
    assert less["left_out"] == [gone]
    assert len(less["rows"]) == len(drawn["rows"]) - 1
    flat = less["following"]
    assert flat["curve_db"] == pytest.approx(
        [flat["typical_db"] - 9] * len(flat["curve_db"]), abs=0.11
    )


def test_a_sub_is_crossed_over_from_the_command_line(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    _run(capsys, "sub", song.slug, "kick", "--note", "40Hz", "--crossover", "65Hz")
    song.refresh_from_db()
    assert song.current is not None
    sub = song.current.sheet.layers["kick_sub"]
    assert (sub.crossover, sub.crossover_hz) == (True, 65.0)  # type: ignore[union-attr]
    for wish, said in (("900Hz", "between 30 and 250 Hz"), ("soon", "no frequency; say off, auto")):
        assert cli.main(["sub", song.slug, "kick", "--crossover", wish]) == 1
        assert said in capsys.readouterr().err
