"""Hits that go from song to song, and those of the simulated kit."""

import io
import json
import os
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.sheet.layers import SampleLayer
from arkund.core.simulate.single import ALIKE, VELOCITIES, single_hits
from arkund.songs import kits, replacing, stock, storage, sweeping
from arkund.songs.models import SampleSet, Song

pytestmark = pytest.mark.django_db(transaction=True)


def _run(capsys: pytest.CaptureFixture[str], *words: str) -> Any:
    capsys.readouterr()
    assert cli.main([*words, "--json"]) == 0
    return json.loads(capsys.readouterr().out)


def _layer(song: Song, name: str = "snare_layer") -> SampleLayer:
    song.refresh_from_db()
    assert song.current is not None
    layer = song.current.sheet.layers[name]
    assert isinstance(layer, SampleLayer)
    return layer


def _samples(digest: str, cuts: list[tuple[int, int]]) -> list[np.ndarray]:
    path = storage.find_sound(digest)
    assert path is not None
    sound = sf.read(str(path), dtype="float32")[0]
    return [sound[at : at + n] for at, n in cuts]


def test_a_songs_hits_are_kept_listed_laid_and_taken_out(
    song: Song, capsys: pytest.CaptureFixture[str]
) -> None:
    listed = _run(capsys, "stock", song.slug, "snare", "--name", "dry  one")["stock"]
    assert [(s["name"], s["piece"]) for s in listed] == [("dry one", "snare")]
    kept = SampleSet.objects.get()
    made = _run(capsys, "layer", song.slug, "snare", "--from", "stock:dry one")
    assert made["label"] == "Layer from dry one under snare"
    layer = _layer(song)
    assert [(s.at, s.frames) for s in layer.samples] == [tuple(s) for s in kept.samples]
    assert layer.source == kept.sound
    # Taken out, the layer keeps its hits; unused, they are swept.
    sweeping.sweep(age_s=0)
    assert storage.find_sound(kept.sound) is not None
    assert _run(capsys, "stock", "--take-out", "dry one")["stock"] == []
    sweeping.sweep(age_s=0)
    assert storage.find_sound(kept.sound) is not None


def test_what_no_layer_uses_goes_with_its_set(song: Song) -> None:
    kept = stock.keep_own(song, "kick", "only kept")
    sweeping.sweep(age_s=0)
    assert storage.find_sound(kept.sound) is not None
    stock.remove("only kept")
    sweeping.sweep(age_s=0)
    assert storage.find_sound(kept.sound) is None


def test_a_set_of_another_rate_sounds_the_same(song: Song, tmp_path: Path) -> None:
    t = np.arange(44100) / 44100
    sf.write(tmp_path / "tone.wav", np.sin(2 * np.pi * 441 * t) * np.exp(-t / 0.2), 44100)
    folder = tmp_path / "tones"
    folder.mkdir()
    (tmp_path / "tone.wav").rename(folder / "tone.wav")
    kept, note = stock.keep_files(song, "snare", folder, "tone")
    assert note == ""
    SampleSet.objects.update(rate=96000)
    made = replacing.layer(song, "snare", "stock:tone", hits="all")
    layer = made.sheet.layers["snare_layer"]
    assert isinstance(layer, SampleLayer)
    (sample,) = _samples(layer.source or "", [(s.at or 0, s.frames) for s in layer.samples])
    peak = int(np.argmax(np.abs(np.fft.rfft(sample, 48000))))
    # 441 Hz at 48 kHz, read as 96 kHz and brought back to 48.
    assert peak == pytest.approx(882, abs=3)
    assert kept.rate == 48000


def test_the_simulated_kit_is_soft_to_loud_and_no_two_alike(song: Song) -> None:
    hits, rate = single_hits("tom_2")
    assert rate == 48000
    peaks = [float(np.abs(s).max()) for s in hits]
    assert len(peaks) == len(VELOCITIES) * ALIKE
    by_velocity = np.array(peaks).reshape(len(VELOCITIES), ALIKE).mean(axis=1)
    assert np.all(np.diff(by_velocity) > 0)
    assert not np.allclose(hits[0][:4000], hits[1][:4000], atol=1e-4)
    made = replacing.layer(song, "snare", "simulated", hits="all")
    assert made.label == "Layer from the simulated kit under snare"
    assert len(_layer(song).samples) == len(VELOCITIES) * ALIKE
    with pytest.raises(ArkundError, match="simulated kit has no close mic on crash 1"):
        single_hits("crash_1")


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("stock", "{song}"), "Name the piece too"),
        (("stock", "{song}", "gong"), "no mic close"),
        (("stock", "--take-out", "nothing"), "no set “nothing”"),
        (("layer", "{song}", "snare", "--from", "stock:nothing"), "no set “nothing”"),
    ],
)
def test_what_cannot_be_is_a_sentence(
    song: Song, capsys: pytest.CaptureFixture[str], words: tuple[str, ...], said: str
) -> None:
    assert cli.main([w.format(song=song.slug) for w in words]) == 1
    assert said in capsys.readouterr().err


def test_a_name_is_used_once_and_is_one_line(song: Song) -> None:
    assert stock.keep_own(song, "snare", "a\nname\x07 of two lines").name == "a name of two lines"
    with pytest.raises(ArkundError, match="already; choose another"):
        stock.keep_own(song, "snare", "a name of two lines")
    assert SampleSet.objects.count() == 1


def _wav(level: float) -> bytes:
    out = io.BytesIO()
    noise = np.random.default_rng(3).standard_normal(9600) * np.exp(-np.arange(9600) / 900)
    sf.write(out, level * noise / 4, 48000, format="WAV")
    return out.getvalue()


def test_the_page_keeps_uploads_lays_and_takes_out(song: Song) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    files = [SimpleUploadedFile(f"../../hit {n}.wav", _wav(n / 3)) for n in (1, 2, 3)]
    sent = client.post(f"/{song.slug}/replace/upload/", {"mic": "snare_top", "files": files}).json()
    assert sent["said"] == "3 hits in the stock as “hit 1 and 2 more”."
    assert SampleSet.objects.get().origin == "3 files"
    page = client.get(f"/{song.slug}/replace/?mic=snare_top").content.decode()
    assert "hit 1 and 2 more (stock)" in page
    assert "the simulated kit" in page
    # A kick's page has only what a kick can use.
    assert (
        "hit 1 and 2 more" not in client.get(f"/{song.slug}/replace/?mic=kick_in").content.decode()
    )
    asked = {"base": 1, "mic": "snare_top", "what": "layer", "source": sent["source"]}
    added = client.post(f"/{song.slug}/replace/add/", asked, content_type="application/json")
    assert len(added.json()["sheet"]["layers"]["snare_layer"]["samples"]) == 3
    gone = client.post(
        f"/{song.slug}/replace/remove/",
        {"name": "hit 1 and 2 more"},
        content_type="application/json",
    )
    assert "keep their hits" in gone.json()["said"]
    assert not SampleSet.objects.exists()


def test_a_page_names_no_file_of_this_machine(song: Song, tmp_path: Path) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    sf.write(tmp_path / "one.wav", np.ones(4800), 48000)
    for source in (str(tmp_path), "/etc", "stock:nothing", "../x.sfz"):
        asked = {"base": 1, "mic": "snare_top", "what": "layer", "source": source}
        answer = client.post(f"/{song.slug}/replace/add/", asked, content_type="application/json")
        assert answer.status_code == 400
        assert "not in the stock" in answer.json()["error"]


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ([], "Choose 1 to 256 files"),
        ([("a.wav", b"no sound")], "a.wav"),
        ([("kit.sfz", b"<region> sample=gone.wav key=38")], "gone.wav"),
        ([("kit.sfz", b"<region> sample=../../etc/passwd key=38")], "passwd"),
    ],
)
def test_uploads_that_hold_no_hits_are_refused(
    song: Song, files: list[tuple[str, bytes]], said: str
) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    sent = [SimpleUploadedFile(name, content) for name, content in files]
    answer = client.post(f"/{song.slug}/replace/upload/", {"mic": "snare_top", "files": sent})
    assert answer.status_code == 400
    assert said in answer.json()["error"]
    assert not SampleSet.objects.exists()


def test_as_many_files_as_are_said_come_in_and_more_are_counted(song: Song) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    one = _wav(0.5)
    for count, said in ((101, "hits in the stock"), (257, "Choose 1 to 256 files")):
        files = [SimpleUploadedFile(f"{n}.wav", one) for n in range(count)]
        sent = client.post(f"/{song.slug}/replace/upload/", {"mic": "snare_top", "files": files})
        assert said in sent.content.decode()


def test_one_kit_has_one_hash_whenever_it_is_stored(data: Path) -> None:
    kit = kits.Kit(np.sin(np.arange(4000.0)).astype(np.float32), ((0, 4000),))
    first = kits.store(kit, 48000)
    second = int(time.time())
    while int(time.time()) == second:
        time.sleep(0.02)
    assert kits.store(kit, 48000) == first
    sound, rate = sf.read(str(storage.sound_path(first)), dtype="float32")
    assert rate == 48000
    assert np.array_equal(sound, kit.sound)


def _kit(folder: Path, opcodes: str, seconds: float = 1.0) -> Path:
    """An SFZ kit with one sample that begins loud."""
    folder.mkdir(exist_ok=True)
    sound = np.zeros(round(seconds * 8000), np.float32)
    sound[100:2000] = 0.5 * np.exp(-np.arange(1900) / 300)
    sf.write(folder / "a.wav", sound, 8000)
    path = folder / "kit.sfz"
    path.write_text(f"<global> loop_mode=one_shot\n<region> sample=a.wav {opcodes}\n")
    return path


def test_a_kit_louder_than_any_sound_is_refused_with_its_line(song: Song, tmp_path: Path) -> None:
    path = _kit(tmp_path / "kit", "volume=6000")
    with pytest.raises(ArkundError, match=r"Region 1 .*line 2.*volume of 6000; -60 to 24"):
        replacing.layer(song, "snare", str(path))
    sf.write(tmp_path / "kit" / "a.wav", 5 * np.ones(4000, np.float32), 8000, subtype="FLOAT")
    path.write_text("<region> sample=a.wav volume=24")
    with pytest.raises(ArkundError, match=r"kit\.sfz, line 1: a\.wav is louder than \+24 dBFS"):
        replacing.layer(song, "snare", str(path))


def test_long_samples_are_cut_as_they_are_read(
    song: Song, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    read: list[int] = []
    own = kits.SoundFileReader.read

    def counting(reader: Any, start: int, stop: int) -> Any:
        read.append(stop - start)
        return own(reader, start, stop)

    monkeypatch.setattr(kits.SoundFileReader, "read", counting)
    path = _kit(tmp_path / "kit", "tune=-2400", seconds=1800)
    kept, _ = stock.keep_files(song, "snare", path, "long")
    assert read == [30 * 8000]
    assert len(kept.samples) == 1


@pytest.mark.parametrize(
    "source", ["", "  ", "{folder}/pipe.wav", "/dev/zero", "{folder}/zero.wav"]
)
def test_what_is_no_file_is_no_source_of_samples(song: Song, tmp_path: Path, source: str) -> None:
    os.mkfifo(tmp_path / "pipe.wav")
    (tmp_path / "zero.wav").symlink_to("/dev/zero")
    with pytest.raises(ArkundError, match=r"Say which file|There is no file or folder"):
        replacing.layer(song, "snare", source.format(folder=tmp_path))
    with pytest.raises(ArkundError, match="There is no sound in"):
        replacing.layer(song, "snare", str(tmp_path))
