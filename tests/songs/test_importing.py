"""From files to a song, and what stands against it."""

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import ArkundError
from arkund.core.simulate.session import Session
from arkund.songs import analysing, facts, gates, importing, incoming, revisions, storage
from arkund.songs.models import Revision, Song
from tests import making

pytestmark = pytest.mark.django_db


def _load(folder: Path, **more: object) -> tuple[Song, list[dict[str, str]]]:
    wishes = importing.Wishes(str(more.pop("name", "Slow Rust")), **more)  # type: ignore[arg-type]
    files = incoming.guess_incoming(incoming.files_of(folder), stereo=wishes.stereo)
    return importing.import_song(files, wishes, skip_bad=bool(more.get("skip_bad")))


def test_a_recording_becomes_a_song(data: Path, recording: Path, session: Session) -> None:
    song, refused = _load(recording)
    assert refused == []
    shown = facts.show(song)
    assert [m["mic"] for m in shown["mics"]] == [m["mic"] for m in session.truth["mics"]]
    assert shown["tempo_bpm"] == pytest.approx(104, rel=0.002)
    assert song.current is not None
    start = song.current.sheet.tempo.first_downbeat_s
    assert start == pytest.approx(session.truth["first_downbeat_s"], abs=0.02)
    assert len(facts.hits(song, 1)["hits"]) > 80
    assert len(facts.pairs(song)["pairs"]) >= 12
    sources = song.current.sheet.take.sources
    for row in facts.mic_files(song.current.sheet):
        stored = storage.sound_path(sources[row.mic].sha256)
        assert stored.read_bytes() == (recording / row.file_name).read_bytes()


def _write(
    folder: Path, name: str, seconds: float = 1.0, rate: int = 48000, sides: int = 1
) -> None:
    noise = np.random.default_rng(len(name)).standard_normal((round(seconds * rate), sides)) * 0.1
    sf.write(str(folder / name), noise, rate, subtype="PCM_24")


def test_bad_files_are_named_and_nothing_is_made(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    _write(folder, "Kick In.wav")
    (folder / "Snare Top.wav").write_bytes(b"RIFF nonsense")
    with pytest.raises(importing.ImportRefused) as caught:
        _load(folder)
    assert [r["file"] for r in caught.value.refused] == ["Snare Top.wav"]
    assert Song.objects.count() == 0
    assert Revision.objects.count() == 0


def test_bad_files_may_be_left_out(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    _write(folder, "Kick In.wav")
    (folder / "Snare Top.wav").write_bytes(b"RIFF nonsense")
    files = incoming.guess_incoming(incoming.files_of(folder))
    song, refused = importing.import_song(files, importing.Wishes("x"), skip_bad=True)
    assert [r["file"] for r in refused] == ["Snare Top.wav"]
    assert list(song.current.sheet.mics) == ["kick_in"]  # type: ignore[union-attr]


def test_mixed_rates_are_said_and_resampled_on_request(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for name in ("Kick In.wav", "Snare Top.wav"):
        _write(folder, name)
    _write(folder, "Hat.wav", rate=44100)
    with pytest.raises(importing.ImportRefused, match="44100 Hz, the rest at 48000"):
        _load(folder)
    song, _ = _load(folder, resample_hz=48000)
    frames = {len(gates.gate_input(song.current.sheet, m)) for m in ("kick_in", "hat")}  # type: ignore[union-attr]
    assert frames == {48000}


def test_mixed_lengths_are_said_and_padded_on_request(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    for name in ("Kick In.wav", "Snare Top.wav"):
        _write(folder, name)
    _write(folder, "Hat.wav", seconds=0.5)
    with pytest.raises(importing.ImportRefused, match=r"lasts 0.50 s"):
        _load(folder)
    song, _ = _load(folder, pad=True)
    assert not gates.gate_input(song.current.sheet, "hat")[24000:].any()  # type: ignore[union-attr]


def test_stereo_in_a_mono_role_asks_and_pairs_become_two_mics(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    _write(folder, "Overheads.wav", sides=2)
    _write(folder, "Snare Top.wav", sides=2)
    with pytest.raises(importing.ImportRefused, match="stereo, but snare top is a mono mic"):
        _load(folder)
    song, _ = _load(folder, stereo="left")
    assert song.current is not None
    assert set(song.current.sheet.mics) == {"overhead_l", "overhead_r", "snare_top"}
    # The pair is one lane from the first on: set on both sides and taken back on both.
    made = revisions.keep(song.pk, song.current.number, {"mics.overhead_r.fader_db": -7.0})
    assert [made.sheet.mics[f"overhead_{side}"].fader_db for side in "lr"] == [-7, -7]
    back = revisions.take_back(song.pk, made.number)
    assert [back.sheet.mics[f"overhead_{side}"].fader_db for side in "lr"] == [0, 0]


def test_two_files_for_one_mic(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    _write(folder, "a.wav")
    _write(folder, "b.wav")
    files = [incoming.Incoming(folder / n, n, "hat") for n in ("a.wav", "b.wav")]
    with pytest.raises(importing.ImportRefused, match=r"as a\.wav is"):
        importing.import_song(files, importing.Wishes("x"))


def test_silence_works_and_is_flagged(data: Path, tmp_path: Path) -> None:
    folder = tmp_path / "in"
    folder.mkdir()
    sf.write(str(folder / "Kick In.wav"), np.zeros(48000), 48000)
    song, _ = _load(folder)
    assert facts.measures(song)["mics"][0]["flags"] == ["silent"]
    assert facts.hits(song, 1)["hits"] == []


def test_a_folder_without_sound(data: Path, tmp_path: Path) -> None:
    with pytest.raises(ArkundError, match="holds no WAV"):
        incoming.files_of(tmp_path)


@pytest.mark.parametrize(
    ("name", "take"),
    [("Kick.wav", 1), ("take 2/Kick.wav", 2), ("Kick_T3.wav", 3), ("Rack 2.wav", 1)],
)
def test_takes_by_folder_and_name(name: str, take: int) -> None:
    assert incoming.take_number(name) == take


def test_roles_and_sections_from_csv(tmp_path: Path) -> None:
    roles = tmp_path / "roles.csv"
    roles.write_text("file,mic\nA 1.wav,snare_top\n")
    assert incoming.read_roles(roles) == {"A 1.wav": "snare_top"}
    sections = tmp_path / "s.csv"
    sections.write_text("name,start_bar,bars\nverse,1,8\n")
    assert incoming.read_sections(sections)[0].bars == 8
    sections.write_text("name,start_bar,bars\nverse,one,8\n")
    with pytest.raises(ArkundError, match="whole numbers"):
        incoming.read_sections(sections)


def test_a_long_take_is_heard_in_parts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    making.write_small_takes(tmp_path)
    sounds = {
        mic: analysing.Sound(tmp_path / f"{name}.wav", mic * 8, "mono", name)
        for mic, name in (("kick_in", "Kick In"), ("snare_top", "Snare Top"))
    }
    monkeypatch.setattr(analysing.storage, "store_overview", lambda *_: None)
    whole, analysis = analysing.analyse(sounds, making.RATE, lambda *_: None)
    read: list[int] = []
    own = analysing.Sound.read

    def counting(self: analysing.Sound, start: int = 0, stop: int | None = None) -> object:
        read.append((stop or self.frames) - start)
        return own(self, start, stop)

    monkeypatch.setattr(analysing, "AT_ONCE_SAMPLES", 2 * 5 * making.RATE)
    monkeypatch.setattr(analysing, "OVERLAP_S", 0.4)
    monkeypatch.setattr(analysing.Sound, "read", counting)
    parts, analysed = analysing.analyse(sounds, making.RATE, lambda *_: None)
    assert [(h.piece, round(h.time_s, 3)) for h in parts] == [
        (h.piece, round(h.time_s, 3)) for h in whole
    ]
    assert len({h.id for h in parts}) == len(parts)
    assert min(read) < 5 * making.RATE
    assert {(p.mic, p.reference) for p in analysed.pairs} == {
        (p.mic, p.reference) for p in analysis.pairs
    }
    # Known hits are kept as they are, whatever part they fall in.
    known = analysing.Known(whole, analysis, frozenset({"kick_in"}))
    again, _ = analysing.analyse(sounds, making.RATE, lambda *_: None, known)
    assert again == whole
