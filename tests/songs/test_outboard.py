"""Outboard on stored songs: sent, brought back into its own lane, and what is refused."""

import json
import os
import time
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf
from django.test import Client

from arkund.core.errors import ArkundError
from arkund.core.simulate.box import Box, through
from arkund.songs import outboard, rendering, revisions, storage, sweeping
from arkund.songs.models import Job, Sending, Song
from arkund.songs.working import KINDS
from tests.making import small_song

pytestmark = pytest.mark.django_db
WIRE = Box(late_samples=700, gain_db=-4.0, noise_dbfs=-300.0, drive=0.0, top_hz=0.0)


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    made = small_song(tmp_path / "in")
    assert made.current is not None
    for patch in (
        {"mics.snare_top.fader_db": -3.0, "mics.snare_top.pan": 0.3},
        {"buses.plate": {"sends": {"snare_top": {"db": -6.0}}, "fader_db": -8.0}},
    ):
        revisions.keep(made.pk, made.current.number, patch)
        made.refresh_from_db()
    return made


def _mix(song: Song) -> np.ndarray:
    song.refresh_from_db()
    assert song.current is not None
    sheet = song.current.sheet
    engine = rendering.exact_engine(sheet)
    return rendering.render_span(sheet, "output", "now", 0, sheet.frames, "", engine)


@pytest.mark.parametrize("node", ["snare_top", "plate", "snare"])
def test_through_a_wire_the_mix_is_what_it_was(song: Song, node: str) -> None:
    assert song.current is not None
    before = _mix(song)
    brought = outboard.through_box(song, node, WIRE)
    assert brought.found.late_samples == pytest.approx(700, abs=0.01)
    assert brought.found.gain_db == pytest.approx(-4.0, abs=0.01)
    after = _mix(song)
    assert np.abs(after - before).max() < 1e-4
    assert song.current.sheet.mics[brought.lanes[0]].role == "return"
    # Its source is muted, and back with it the return would be heard twice.
    revisions.undo(song.pk)
    assert np.abs(_mix(song) - before).max() > 0.01


def test_a_return_beside_its_source_mutes_nothing(song: Song) -> None:
    brought = outboard.through_box(song, "snare_top", WIRE, instead=False)
    sheet = brought.revision.sheet
    assert not sheet.mics["snare_top"].mute
    (lane,) = brought.lanes
    assert sheet.mics[lane].fader_db == -3.0
    assert sheet.mics[lane].to == sheet.mics["snare_top"].to
    assert "beside snare_top" in brought.revision.label


def test_a_louder_box_is_trimmed_and_what_was_found_is_the_reason(song: Song) -> None:
    brought = outboard.through_box(song, "snare_top", Box(drive=6.0, noise_dbfs=-300, polarity=-1))
    assert abs(brought.louder_db) > outboard.LEVEL_DB
    (lane,) = brought.lanes
    assert brought.revision.sheet.mics[lane].trim_db == pytest.approx(-brought.louder_db)
    assert "polarity flipped" in brought.revision.reason
    song.refresh_from_db()
    again = outboard.through_box(song, "snare_top", WIRE)
    assert again.lanes != brought.lanes


def test_a_return_is_refused_where_it_is_none(song: Song, tmp_path: Path) -> None:
    sent, back = tmp_path / "sent.wav", tmp_path / "back.wav"
    sending = outboard.send(song, "snare_top", sent)
    sound, rate = sf.read(sent, dtype="float32", always_2d=True)
    base = sending.revision.number

    def bring(sound: np.ndarray, at: int = rate) -> str:
        sf.write(back, sound, at)
        with pytest.raises(ArkundError) as refused:
            outboard.bring_back(song, base, sending, back, "back.wav")
        return str(refused.value)

    assert "comes back at 44.1 kHz and was sent at 48 kHz" in bring(sound, 44100)
    assert "its end is missing" in bring(sound[: len(sound) // 2])
    assert "has 3 channels" in bring(np.repeat(sound, 3, axis=1))
    back.write_bytes(b"RIFF and nothing")
    with pytest.raises(ArkundError, match=r"back\.wav"):
        outboard.bring_back(song, base, sending, back, "back.wav")
    revisions.keep(song.pk, base, {"buses.plate.mute": True})
    song.refresh_from_db()
    with pytest.raises(ArkundError, match="Plate is silent"):
        outboard.send(song, "plate", sent)
    with pytest.raises(ArkundError, match="cannot be sent"):
        outboard.send(song, "nothing", sent)
    assert Song.objects.get().current.number == base + 1  # type: ignore[union-attr]


def test_the_page_sends_and_brings_back(song: Song, client: Client, tmp_path: Path) -> None:
    page = client.get(f"/{song.slug}/outboard/").content.decode()
    assert "Nothing has been sent yet." in page
    answer = client.post(f"/{song.slug}/outboard/send/", {"node": "snare_top"})
    assert "snare_top_to_outboard.wav" in answer["Content-Disposition"]
    sent = tmp_path / "sent.wav"
    sent.write_bytes(b"".join(answer.streaming_content))  # type: ignore[attr-defined]
    sound, rate = sf.read(sent, dtype="float32", always_2d=True)
    back = tmp_path / "back.wav"
    sf.write(back, through(WIRE, sound, rate), rate, subtype="PCM_24")
    sending, base = Sending.objects.get().pk, song.current.number  # type: ignore[union-attr]
    with back.open("rb") as file:
        form = {"file": file, "sending": sending, "base": base, "instead": "1"}
        job = Job.objects.get(pk=client.post(f"/{song.slug}/outboard/bring/", form).json()["job"])
    job.result = KINDS["outboard"](job, _silent)
    job.state = Job.State.DONE
    job.save()
    page = client.get(f"/{song.slug}/outboard/").content.decode()
    assert "700.0 samples" in page
    assert "Returns in this song" in page
    box = {"node": "snare_top", "box": "x", "base": base}
    refused = client.post(
        f"/{song.slug}/outboard/box/", json.dumps(box), content_type="application/json"
    )
    assert "There is no box “x”" in refused.json()["error"]
    assert client.post(f"/{song.slug}/outboard/bring/", {"sending": sending}).status_code == 400
    assert client.post(f"/{song.slug}/outboard/bring/", {"sending": 99999}).status_code == 404


class _Silent:
    """Nobody watches."""

    def or_stop(self, share: float, what: str = "") -> None: ...


_silent = _Silent()


def test_what_a_killed_round_trip_left_is_swept_and_what_is_under_way_is_not(song: Song) -> None:
    for name, age_s in (("tmpold", 7200), ("tmpnew", 0)):
        folder = storage.data_folder() / name
        folder.mkdir()
        (folder / "sent.wav").write_bytes(b"x")
        at = time.time() - age_s
        os.utime(folder / "sent.wav", (at, at))
    sweeping.sweep()
    assert not (storage.data_folder() / "tmpold").exists()
    assert (storage.data_folder() / "tmpnew" / "sent.wav").exists()
