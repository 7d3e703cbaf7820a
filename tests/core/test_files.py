"""Files from outside: what is refused, and with which words."""

import struct
from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.audio.files import SoundFileReader, examine, pick_channel
from arkund.core.audio.overview import BASE, Overview, columns_of
from arkund.core.audio.resampling import resample_file
from arkund.core.errors import AudioRefused, SoundLost

RATE = 48000


@pytest.fixture
def tone(tmp_path: Path) -> Path:
    path = tmp_path / "Kick In.wav"
    sound = 0.5 * np.sin(2 * np.pi * 100 * np.arange(RATE) / RATE)
    sf.write(str(path), sound, RATE, subtype="PCM_24")
    return path


@pytest.mark.parametrize(
    ("subtype", "suffix"),
    [
        ("PCM_16", "wav"),
        ("PCM_24", "wav"),
        ("PCM_32", "wav"),
        ("FLOAT", "wav"),
        ("PCM_24", "flac"),
        ("PCM_24", "aiff"),
    ],
)
def test_usual_formats_are_read(tmp_path: Path, subtype: str, suffix: str) -> None:
    path = tmp_path / f"x.{suffix}"
    sf.write(str(path), np.full((1000, 2), 0.25), 44100, subtype=subtype)
    facts = examine(path)
    assert (facts.frames, facts.rate, facts.channels) == (1000, 44100, 2)
    assert facts.peak == pytest.approx(0.25, abs=1e-4)


def _refusal(path: Path) -> str:
    with pytest.raises(AudioRefused) as caught:
        examine(path)
    assert path.name in str(caught.value)
    return str(caught.value)


def test_text_with_a_sound_suffix(tmp_path: Path) -> None:
    path = tmp_path / "notes.wav"
    path.write_text("no sound at all, but long enough to be looked at")
    assert "not sound" in _refusal(path)


def test_other_suffix(tmp_path: Path) -> None:
    path = tmp_path / "a.exe"
    path.write_bytes(b"x")
    assert "WAV, FLAC or AIFF" in _refusal(path)


def test_empty_file(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    path.touch()
    assert "empty" in _refusal(path)


@pytest.mark.parametrize("suffix", ["wav", "aiff"])
def test_truncated_file(tmp_path: Path, suffix: str) -> None:
    path = tmp_path / f"a.{suffix}"
    sf.write(str(path), np.zeros(RATE), RATE, subtype="PCM_24")
    path.write_bytes(path.read_bytes()[:-5000])
    assert "5000 bytes of its sound are missing" in _refusal(path)


def test_truncated_flac(tmp_path: Path) -> None:
    path = tmp_path / "a.flac"
    noise = np.random.default_rng(1).standard_normal(RATE) * 0.1
    sf.write(str(path), noise, RATE, subtype="PCM_24")
    path.write_bytes(path.read_bytes()[:-40000])
    assert "cut short" in _refusal(path) or "not sound" in _refusal(path)


@pytest.mark.parametrize("bad", [np.nan, np.inf, -np.inf])
def test_samples_that_are_no_numbers(tmp_path: Path, bad: float) -> None:
    path = tmp_path / "a.wav"
    sound = np.zeros(RATE, np.float32)
    sound[24000] = bad
    sf.write(str(path), sound, RATE, subtype="FLOAT")
    assert "not numbers, the first at 0.500 s" in _refusal(path)


def test_absurd_rate(tone: Path) -> None:
    content = bytearray(tone.read_bytes())
    content[24:28] = struct.pack("<I", 7)
    tone.write_bytes(bytes(content))
    assert "7 Hz" in _refusal(tone)


def test_six_channels(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    sf.write(str(path), np.zeros((100, 6)), RATE)
    assert "6 channels" in _refusal(path)


def test_silence_is_taken_and_said(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    sf.write(str(path), np.zeros(100), RATE)
    assert examine(path).is_silent


def test_reading_outside_the_file_is_silence(tone: Path) -> None:
    with SoundFileReader(tone) as reader:
        sound = reader.read(-100, RATE + 100)
        inner = reader.read(0, RATE)
    assert sound.shape == (RATE + 200, 1)
    assert not sound[:100].any()
    assert not sound[-100:].any()
    assert np.array_equal(sound[100:-100], inner)


def test_pick_of_a_stereo_file() -> None:
    stereo = np.array([[1.0, 3.0], [2.0, 6.0]], np.float32)
    assert pick_channel(stereo, "left").tolist() == [1, 2]
    assert pick_channel(stereo, "right").tolist() == [3, 6]
    assert pick_channel(stereo, "sum").tolist() == [2, 4]
    with pytest.raises(ValueError, match="middle"):
        pick_channel(stereo, "middle")


def test_resampling_keeps_pitch_place_and_length(tone: Path, tmp_path: Path) -> None:
    target = tmp_path / "moved.wav"
    resample_file(tone, target, 44100)
    sound, rate = sf.read(str(target))
    wanted = 0.5 * np.sin(2 * np.pi * 100 * np.arange(44100) / 44100)
    assert rate == 44100
    assert len(sound) == 44100
    assert np.abs(sound - wanted)[500:-500].max() < 1e-4


def test_overview_holds_every_extreme() -> None:
    sound = np.random.default_rng(2).uniform(-0.9, 0.9, BASE * 50 + 17).astype(np.float32)
    columns = Overview.of(sound).columns(0, BASE * 40, 10)
    parts = sound[: BASE * 40].reshape(10, -1)
    assert np.allclose(columns[:, 0] / 32767, parts.min(axis=1), atol=1e-4)
    assert np.allclose(columns[:, 1] / 32767, parts.max(axis=1), atol=1e-4)


def test_overview_outside_the_song_is_flat() -> None:
    columns = Overview.of(np.ones(BASE * 4, np.float32)).columns(-BASE * 4, BASE * 8, 12)
    assert not columns[:4].any()
    assert columns[4:8, 1].all()
    assert not columns[8:].any()


def test_columns_finer_than_samples_repeat_them() -> None:
    columns = columns_of(np.array([0.5, -0.5], np.float32), 4)
    assert (columns[:, 1] / 32767).round(2).tolist() == [0.5, 0.5, -0.5, -0.5]


def _with_data_size(path: Path, size: int) -> Path:
    content = bytearray(path.read_bytes())
    at = content.index(b"data")
    content[at + 4 : at + 8] = struct.pack("<I", size)
    content[4:8] = struct.pack("<I", size and 0xFFFFFFFF)
    path.write_bytes(content)
    return path


@pytest.mark.parametrize("size", [0, 0xFFFFFFFF])
def test_a_header_that_was_never_filled_in_is_taken_with_a_note(tone: Path, size: int) -> None:
    whole = SoundFileReader(tone).read(0, RATE)
    facts = examine(_with_data_size(tone, size))
    assert facts.frames == RATE
    assert "does not say how long" in facts.note
    with SoundFileReader(tone) as reader:
        assert np.array_equal(reader.read(0, RATE), whole)
        assert np.array_equal(reader.read(1000, 2000), whole[1000:2000])


def test_an_rf64_cut_off_anywhere_in_its_header_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    sf.write(str(path), np.zeros(1000), RATE, subtype="PCM_24", format="RF64")
    whole = path.read_bytes()
    for length in range(4, whole.index(b"data") + 8):
        path.write_bytes(whole[:length])
        _refusal(path)


def test_a_flac_that_states_one_sample_is_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.flac"
    rng = np.random.default_rng(1)
    sf.write(str(path), rng.standard_normal(RATE) * 0.1, RATE, subtype="PCM_24")
    content = bytearray(path.read_bytes())
    stated = int.from_bytes(content[18:26], "big")
    content[18:26] = (stated >> 36 << 36 | 1).to_bytes(8, "big")
    path.write_bytes(content)
    assert "states 1 samples but holds more" in _refusal(path)


def test_samples_that_are_no_sound_are_refused(tmp_path: Path) -> None:
    path = tmp_path / "a.wav"
    sf.write(str(path), np.full(1000, 1e20), RATE, subtype="FLOAT")
    assert "+400 dBFS" in _refusal(path)


def test_a_file_that_has_become_shorter_is_lost_and_not_silent(tone: Path) -> None:
    tone.write_bytes(tone.read_bytes()[:-9000])
    with pytest.raises(SoundLost, match="snare top"):
        SoundFileReader(tone, "snare top")
    tone.unlink()
    with pytest.raises(SoundLost):
        SoundFileReader(tone)
