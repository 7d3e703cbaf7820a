"""The set-up corrected after import: roles, files, mics out of use, overdubs, beds; copies."""

from pathlib import Path

import numpy as np
import pytest
import soundfile as sf

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.core.sheet.lanes import kit_mics, sounding_mics
from arkund.songs import (
    analysing,
    copies,
    facts,
    hits,
    importing,
    incoming,
    revisions,
    set_up,
    takes,
)
from arkund.songs.analysed import analysis_of
from arkund.songs.incoming import Incoming
from arkund.songs.models import Song
from arkund.songs.rendering import measure_span, node_of, render_span
from arkund.songs.set_up import Wanted
from arkund.songs.timing import sheet_of
from tests.making import RATE, small_song, write_small_takes

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    return small_song(tmp_path / "in")


def change(song: Song, **wanted: object) -> Song:
    song.refresh_from_db()
    assert song.current is not None
    set_up.correct(song, song.current.number, Wanted(**wanted))  # type: ignore[arg-type]
    song.refresh_from_db()
    return song


def pieces(song: Song) -> dict[str, int]:
    song.refresh_from_db()
    found = facts.hits_of(sheet_of(song))
    return {p: sum(h.piece == p for h in found) for p in sorted({h.piece for h in found})}


def test_two_mics_exchanged_take_settings_hits_and_pairs_with_them(song: Song) -> None:
    before = sheet_of(song)
    assert pieces(song) == {"kick": 8, "snare": 8}
    first = next(h for h in facts.hits_of(before) if h.piece == "kick")
    revisions.keep(song.pk, 1, {"mics.kick_in.trim_db": -3.0})
    song.refresh_from_db()
    hits.correct(song, 2, [first.id], {"kind": "ghost"})
    change(song, names={"kick_in": "snare_top", "snare_top": "kick_in"})
    sheet = sheet_of(song)
    assert sheet.mics["snare_top"].trim_db == -3.0
    assert sheet.mics["snare_top"].role == "snare_top"
    assert sheet.take.sources["snare_top"] == before.take.sources["kick_in"]
    now = facts.hits_of(sheet)
    said = next(h for h in now if abs(h.time_s - first.time_s) < 0.006)
    assert (said.piece, said.kind) == ("snare", "ghost")
    assert analysis_of(sheet.take).files == {"snare_top": "Kick In.wav", "kick_in": "Snare Top.wav"}
    assert song.current is not None
    assert song.current.label == "Set-up: kick in is snare top; snare top is kick in"
    assert sheet.buses["strike"].sends.keys() == before.buses["strike"].sends.keys()
    revisions.undo(song.pk)
    song.refresh_from_db()
    assert sheet_of(song).take.hits == before.take.hits
    assert analysis_of(sheet_of(song).take).files["kick_in"] == "Kick In.wav"


def test_a_role_taken_back_asks_where_later_changes_touch_the_mic(song: Song) -> None:
    change(song, names={"snare_top": "tom_1"})
    assert pieces(song) == {"kick": 8, "tom_1": 8}
    assert song.current is not None
    role = song.current.number
    revisions.keep(song.pk, role, {"mics.tom_1.trim_db": 2.0})
    with pytest.raises(revisions.Overlap, match="tom 1: trim"):
        revisions.take_back(song.pk, role)
    revisions.take_back(song.pk, role, all_the_same=True)
    assert pieces(song) == {"kick": 8, "snare": 8}


def test_a_mic_out_of_use_leaves_mix_hits_and_findings_with_its_reason(song: Song) -> None:
    whole = render_span(sheet_of(song), "output", "recorded", 0, RATE)
    change(song, unused={"snare_top": "cable broke"})
    sheet = sheet_of(song)
    assert sounding_mics(sheet) == kit_mics(sheet) == ["kick_in"]
    assert "snare" not in pieces(song)
    assert song.current is not None
    assert song.current.reason == "cable broke"
    alone = render_span(sheet, "output", "recorded", 0, RATE)
    assert np.abs(whole - alone).max() > 0.1
    change(song, unused={"snare_top": ""})
    assert pieces(song) == {"kick": 8, "snare": 8}
    assert np.array_equal(render_span(sheet_of(song), "output", "recorded", 0, RATE), whole)


def test_an_overdub_is_heard_but_bleeds_and_strikes_nowhere(song: Song) -> None:
    change(song, overdubs={"snare_top": True})
    sheet = sheet_of(song)
    assert sounding_mics(sheet) == ["kick_in", "snare_top"]
    assert kit_mics(sheet) == ["kick_in"]
    assert pieces(song).keys() == {"kick"}
    assert analysis_of(sheet.take).pairs == ()
    assert analysis_of(sheet.take).heard["snare_top"] == {}


def test_a_swapped_file_keeps_hits_and_settings(song: Song, tmp_path: Path) -> None:
    revisions.keep(song.pk, 1, {"mics.snare_top.fader_db": -4.0})
    before = sheet_of(Song.objects.get(pk=song.pk))
    quiet, _ = sf.read(str(tmp_path / "in" / "Snare Top.wav"))
    sf.write(str(tmp_path / "Snare again.wav"), quiet * 0.25, RATE, subtype="PCM_24")
    new = Incoming(tmp_path / "Snare again.wav", "Snare again.wav", "snare_top")
    change(song, files=(new,))
    sheet = sheet_of(song)
    assert sheet.take.hits == before.take.hits
    assert sheet.mics["snare_top"].fader_db == -4.0
    peaks = [analysis_of(s.take).measures["snare_top"]["peak_dbfs"] for s in (before, sheet)]
    assert peaks[0] - peaks[1] == pytest.approx(12.04, abs=0.1)  # type: ignore[operator]
    sf.write(str(tmp_path / "long.wav"), np.tile(quiet, 2) * 0.1, RATE, subtype="PCM_24")
    with pytest.raises(ArkundError, match=r"lasts 16\.00 s, the song 8\.00 s"):
        change(song, files=(Incoming(tmp_path / "long.wav", "long.wav", "snare_top"),))
    with pytest.raises(ArkundError, match="no take 4"):
        change(song, files=(Incoming(new.path, new.name, "snare_top", 4),))


def test_what_stays_the_same_is_not_analysed_again(
    song: Song, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A bed beside the drums changes no hit, no delay and no level of theirs."""
    before = analysis_of(sheet_of(song).take)

    def fail(*_: object, **__: object) -> None:
        raise AssertionError("analysed again")

    monkeypatch.setattr(analysing, "detect", fail)
    monkeypatch.setattr(analysing, "align_take", fail)
    tone = 0.1 * np.sin(np.arange(RATE * 4) / 20)
    sf.write(str(tmp_path / "bed.wav"), tone, RATE, subtype="PCM_24")
    change(song, files=(Incoming(tmp_path / "bed.wav", "bed.wav", "bed"),))
    after = analysis_of(sheet_of(song).take)
    assert after.pairs == before.pairs
    assert set(after.measures) == {*before.measures, "bed"}
    assert {m: after.measures[m] for m in before.measures} == dict(before.measures)
    assert after.measures["bed"]["peak_dbfs"] == pytest.approx(-20, abs=0.1)


def test_bed_and_reference_are_heard_beside_the_drums_never_in_them(
    song: Song, tmp_path: Path
) -> None:
    before = render_span(sheet_of(song), "output", "now", 0, 2 * RATE)
    time = np.arange(20 * RATE) / RATE
    tone = 0.2 * np.sin(2 * np.pi * 110 * time)
    sf.write(str(tmp_path / "bed.wav"), np.stack([tone, -tone], 1), RATE, subtype="PCM_24")
    sf.write(str(tmp_path / "ref.wav"), tone * 0.1, RATE, subtype="PCM_24")
    change(
        song,
        files=(
            Incoming(tmp_path / "bed.wav", "bed.wav", "bed"),
            Incoming(tmp_path / "ref.wav", "ref.wav", "reference"),
        ),
    )
    sheet = sheet_of(song)
    assert {"bed_l", "bed_r", "reference"} < set(sheet.mics)
    assert sheet.frames == 8 * RATE
    assert pieces(song) == {"kick": 8, "snare": 8}
    assert np.array_equal(render_span(sheet, "output", "now", 0, 2 * RATE), before)
    whole = render_span(sheet, "song", "now", 0, 2 * RATE) - before
    assert np.allclose(whole[:, 0], tone[: 2 * RATE], atol=1e-4)
    assert np.allclose(whole[:, 1], -tone[: 2 * RATE], atol=1e-4)
    shut = sheet_of(song, patch={"bed_db": -90})
    assert np.array_equal(render_span(shut, "song", "now", 0, RATE), before[:RATE])
    # The reference is told to be as loud as the drums are now, as far as matching goes.
    found = measure_span(sheet, "reference", 0, sheet.frames)
    drums = measure_span(sheet, "output", 0, sheet.frames)
    assert found.match_db == pytest.approx(
        np.clip(drums.loudness_lufs - found.loudness_lufs, -12, 12), abs=0.11
    )
    assert node_of(sheet, "song", "recorded") is not node_of(sheet, "output", "recorded")


@pytest.mark.parametrize(
    ("wanted", "words"),
    [
        (
            {"names": {"kick_in": "snare_top"}},
            "kick in and snare top cannot both be snare top|both be",
        ),
        ({"names": {"hat": "ride"}}, "no mic hat"),
        ({"names": {"kick_in": "cowbell stand"}}, "is not a role"),
        ({"overdubs": {"kick_in": False}}, "like that already"),
    ],
)
def test_a_set_up_that_cannot_be_is_refused(song: Song, wanted: dict, words: str) -> None:
    with pytest.raises(ArkundError, match=words):
        change(song, **wanted)
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.number == 1


def test_the_command_line_corrects_the_set_up(song: Song, capsys: pytest.CaptureFixture) -> None:
    assert cli.main(["set-up", song.slug, "snare_top", "--as", "kick_in", "--swap", "--json"]) == 0
    assert "snare top is kick in" in capsys.readouterr().out
    assert cli.main(["set-up", song.slug, "kick_in", "--unused", "buzzes"]) == 0
    song.refresh_from_db()
    assert sheet_of(song).mics["kick_in"].unused == "buzzes"
    assert cli.main(["set-up", song.slug, "kick_in", "--as", "snare_top"]) == 1
    assert "cannot both be" in capsys.readouterr().err


def test_takes_are_lined_up_at_import_and_by_hand(data: Path, tmp_path: Path) -> None:
    """Take 2 was started 0.8 s before the others."""
    folder = tmp_path / "in"
    write_small_takes(folder, 3)
    for mic in ("Kick In.wav", "Snare Top.wav"):
        path = folder / "take 2" / mic
        sound, _ = sf.read(str(path))
        late = np.concatenate([np.zeros(round(0.8 * RATE)), sound])
        sf.write(str(path), late, RATE, subtype="PCM_24")
    files = incoming.guess_incoming(incoming.files_of(folder))
    song, _ = importing.import_song(files, importing.Wishes("Two Gates", 120.0))
    offsets = [t.offset / RATE for t in sheet_of(song).takes]
    assert offsets == [0.0, pytest.approx(0.8, abs=0.001), 0.0]
    takes.shift(song, 1, 2, -250.0)
    song.refresh_from_db()
    assert sheet_of(song).takes[1].offset == -12000
    takes.line_up(song, 2)
    song.refresh_from_db()
    assert sheet_of(song).takes[1].offset / RATE == pytest.approx(0.8, abs=0.001)
    with pytest.raises(ArkundError, match="no take 8"):
        takes.shift(song, 3, 8, 0.0)


def test_a_bar_is_copied_over_others_and_the_song_grows(song: Song) -> None:
    copies.copy_bars(song, 1, 1, 1, 2, 4, 3)
    song.refresh_from_db()
    sheet = sheet_of(song)
    start = sheet.tempo.first_downbeat_s
    assert sheet.frames / RATE == pytest.approx(start + 9 * 2.0, abs=0.05)
    found = facts.hits_of(sheet)
    copied = [h for h in found if "-" in h.id]
    assert len(copied) == 3 * 8
    source = {h.piece: h.time_s for h in reversed(found) if h.time_s < start + 3.9}
    for h in copied:
        assert (h.time_s - source[h.piece]) % 1.0 == pytest.approx(0, abs=0.002) or (
            1 - (h.time_s - source[h.piece]) % 1.0
        ) == pytest.approx(0, abs=0.002)
    with pytest.raises(ArkundError, match="1 to 400 times"):
        copies.copy_bars(song, 2, 1, 1, 1, 1, 0)


def test_a_hit_is_copied_in_place_of_another(song: Song) -> None:
    sheet = sheet_of(song)
    snares = [h for h in facts.hits_of(sheet) if h.piece == "snare"]
    copies.copy_hit(song, 1, snares[0].id, snares[3].id)
    song.refresh_from_db()
    laid = sheet_of(song)
    (made,) = laid.copies
    shift = made.at - made.source
    assert shift == pytest.approx((snares[3].time_s - snares[0].time_s) * RATE, abs=1)
    before = render_span(sheet, "snare_top", "recorded", 0, sheet.frames)[:, 0]
    after = render_span(laid, "snare_top", "recorded", 0, sheet.frames)[:, 0]
    body = slice(made.at, made.at + made.frames - 100)
    assert np.array_equal(after[body], before[body.start - shift : body.stop - shift])
    # A copy is corrected as what it was copied from.
    copy = next(h for h in facts.hits_of(laid) if "-" in h.id)
    hits.correct(song, 2, [copy.id], {"piece": "kick"})
    song.refresh_from_db()
    assert pieces(song) == {"kick": 10, "snare": 6}
    with pytest.raises(ArkundError, match="not in the hit list"):
        copies.copy_hit(song, 3, "nothing", 1.0)
