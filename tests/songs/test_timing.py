"""Timing of stored songs: rules resolved when kept, corrections, files in and out."""

import json
import time
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any

import mido
import numpy as np
import pytest
from django.test import Client
from django.urls import reverse

from arkund import cli
from arkund.core.advise.edit import seams
from arkund.core.advise.edit.in_time import fresh_rule
from arkund.core.advise.school import NATURAL, TIGHT
from arkund.core.errors import ArkundError
from arkund.core.sheet.patches import apply_patch
from arkund.songs import exports, hits, moving, revisions, sheet_in, storage, tempo, timing
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of, preview_span, render_span
from arkund.songs.studies import study_of
from arkund.songs.timing import edits_of, sheet_of
from tests.making import RATE, small_song

pytestmark = pytest.mark.django_db(transaction=True)
JSON = "application/json"
LATE = {"school": "exact", "division": "1/4", "start_bar": 1, "bars": 4}


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    """Hits every half second; the file begins a quarter second in, and so the grid is told to
    begin 15 ms before them."""
    made = small_song(tmp_path / "in", takes=3)
    first = min(h.time_s for h in hits_of(sheet_of(made)))
    return keep(made, {"tempo.first_downbeat_s": round(first - 0.015, 6)})


def keep(song: Song, patch: dict) -> Song:
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, patch)
    song.refresh_from_db()
    return song


def late_ms(song: Song) -> np.ndarray:
    sheet = sheet_of(song)
    start = sheet.tempo.first_downbeat_s
    return np.array([(h.time_s - start + 0.25) % 0.5 - 0.25 for h in hits_of(sheet)]) * 1000


def test_a_rule_moves_hits_and_sound_alike_and_undo_brings_both_back(song: Song) -> None:
    before = render_span(sheet_of(song), "snare_top", "recorded", 0, 6 * RATE)[:, 0]
    assert np.median(late_ms(song)) == pytest.approx(15, abs=1)
    keep(song, {"timing.rules": [LATE]})
    assert np.abs(late_ms(song)).max() < 0.3
    sheet = sheet_of(song)
    after = render_span(sheet, "snare_top", "recorded", 0, 6 * RATE)[:, 0]
    hit = next(m for m in edits_of(sheet).moves if m.pieces == ("snare",))
    shift = round(hit.shift_s * RATE)
    body = slice(hit.at, hit.at + 1200)
    assert shift == pytest.approx(-0.015 * RATE, abs=20)
    assert np.array_equal(after[hit.at + shift : hit.at + shift + 1200], before[body])
    revisions.undo(song.pk)
    song.refresh_from_db()
    assert sheet_of(song).moves is None
    again = render_span(sheet_of(song), "snare_top", "recorded", 0, 6 * RATE)[:, 0]
    assert np.array_equal(again, before)


def test_a_seam_is_judged_beside_what_it_was_cut_from(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A tick of the recording's own is no click of an edit's."""
    keep(song, {"timing.rules": [LATE]})
    study = study_of(sheet_of(song))
    asked: list[tuple[float, float]] = []

    def note(ratio: float, source: float) -> bool:
        asked.append((ratio, source))
        return source == 0.0

    monkeypatch.setattr(seams, "stands_out", note)
    seams.suspect_seams(study)
    beside = [(ratio, source) for ratio, source in asked if source > 0]
    assert len(beside) >= 4
    # Splices on hits that ring alike are as rough as what they join.
    assert np.median([ratio / source for ratio, source in beside]) == pytest.approx(1.0, abs=0.2)


def test_moves_are_reckoned_from_the_hits_as_played_never_stacked(song: Song) -> None:
    keep(song, {"timing.rules": [LATE]})
    at_once = sheet_of(song).moves
    keep(song, {"timing.rules.0.strength": 0.4})
    assert np.median(late_ms(song)) == pytest.approx(9, abs=0.8)
    keep(song, {"timing.rules.0.strength": 1.0})
    assert sheet_of(song).moves == at_once


def test_moves_are_written_once_however_many_revisions_have_them(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    written: list[str] = []
    write = storage.write_atomically

    def noting(path: Path, content: bytes, **how: Any) -> None:
        written.append(path.parent.name)
        write(path, content, **how)

    monkeypatch.setattr(storage, "write_atomically", noting)
    keep(song, {"timing.rules": [LATE]})
    keep(song, {"mics.snare_top.trim_db": -3})
    keep(song, {"timing.rules.0.strength": 0.5})
    assert written.count("edits") == 2


def test_other_changes_leave_the_moves_and_taking_back_the_rule_ends_them(song: Song) -> None:
    keep(song, {"timing.rules": [LATE]})
    rule = song.current.number  # type: ignore[union-attr]
    moves = sheet_of(song).moves
    keep(song, {"mics.snare_top.trim_db": -3})
    assert sheet_of(song).moves == moves
    revisions.take_back(song.pk, rule)
    song.refresh_from_db()
    assert sheet_of(song).moves is None
    assert sheet_of(song).mics["snare_top"].trim_db == -3


def test_another_take_is_moved_by_its_own_hits(song: Song) -> None:
    keep(song, {"timing.rules": [LATE]})
    keep(song, {"comp": [{"take": 3, "at": 0}]})
    assert np.abs(late_ms(song)).max() < 0.3
    assert len(edits_of(sheet_of(song)).moves) == len(hits_of(sheet_of(song)))


def test_corrections_are_revisions_and_are_heard_by_all_that_listens(song: Song) -> None:
    base = song.current.number  # type: ignore[union-attr]
    listed = hits_of(sheet_of(song))
    snare = next(h for h in listed if h.piece == "snare")
    made = hits.correct(song, base, [snare.id], {"gone": True})
    assert made.label == "snare: removed from the hit list"
    song.refresh_from_db()
    assert len(hits_of(sheet_of(song))) == len(listed) - 1
    # Pointing near the place is enough: the first arrival is found.
    hits.add(song, made.number, "snare", snare.time_s + 0.006, "accent")
    song.refresh_from_db()
    back = next(h for h in hits_of(sheet_of(song)) if abs(h.time_s - snare.time_s) < 0.02)
    assert back.time_s == pytest.approx(snare.time_s, abs=0.0015)
    assert (back.kind, back.confidence) == ("accent", 1.0)
    number = song.current.number  # type: ignore[union-attr]
    hits.correct(song, number, [back.id], {"piece": "kick", "nudge_s": 0.002})
    song.refresh_from_db()
    kick = next(h for h in hits_of(sheet_of(song)) if h.id == back.id)
    assert kick.piece == "kick"
    assert kick.time_s == pytest.approx(back.time_s + 0.002, abs=1e-5)
    for bad in ({"ids": ["nobody"], "change": {"gone": True}}, {"ids": [kick.id], "change": {}}):
        with pytest.raises(ArkundError):
            hits.correct(song, number + 1, bad["ids"], bad["change"])  # type: ignore[arg-type]
    with pytest.raises(ArkundError, match="no tom 7"):
        hits.add(song, number + 1, "tom_7", 1.0)


def test_the_page_s_requests_move_correct_and_refuse(song: Song) -> None:
    client = Client(headers={"host": "127.0.0.1"})
    base = song.current.number  # type: ignore[union-attr]
    hit = next(h for h in hits_of(sheet_of(song)) if h.piece == "snare")
    near = {"id": hit.id, "to_s": hit.time_s - 0.012, "base": base}
    made = client.post(f"/{song.slug}/move/", near, JSON).json()
    # Drawn to the line 15 ms before where it was played.
    assert made["sheet"]["timing"]["to_s"][hit.id] == pytest.approx(hit.time_s - 0.015, abs=1e-3)
    free = near | {"free": True, "base": made["revision"]}
    made = client.post(f"/{song.slug}/move/", free, JSON).json()
    assert made["sheet"]["timing"]["to_s"][hit.id] == pytest.approx(hit.time_s - 0.012, abs=1e-5)
    picture = client.get(f"/{song.slug}/picture/edit/").json()
    assert [e["id"] for e in picture["edits"]] == [hit.id]
    table = client.get(f"/{song.slug}/edits.csv").content.decode().splitlines()
    assert len(table) == 2
    assert "by hand" in table[1]
    taken = {"patch": {f"timing.to_s.{hit.id}": None}, "base": made["revision"]}
    back = client.post(f"/{song.slug}/keep/", taken, JSON).json()
    assert back["sheet"]["moves"] is None
    for part, data in (
        ("hits", {"base": back["revision"]}),
        ("hits", {"base": "x", "ids": [hit.id]}),
        ("hits", {"base": back["revision"], "ids": [hit.id], "change": {"nudge_s": "soon"}}),
        ("move", {"base": back["revision"], "id": "nobody", "to_s": 1.0}),
        ("move", {"base": back["revision"], "id": hit.id}),
    ):
        answer = client.post(f"/{song.slug}/{part}/", data, JSON)
        assert answer.status_code == 400, (part, data)
        assert answer.json()["error"].endswith(".")
    late = client.post(f"/{song.slug}/move/", near, JSON)
    assert late.status_code == 409
    page = client.get(f"/{song.slug}/edit/")
    assert page.status_code == 200
    assert b"Nothing is moved" in page.content


def test_the_middle_of_a_pair_is_put_on_the_line(song: Song) -> None:
    """A hat 16 ms after its snare cannot be parted from it: both end 8 ms from the line."""
    snare = next(h for h in hits_of(sheet_of(song)) if h.piece == "snare")
    hat = {"piece": "hat", "time_s": round(snare.time_s + 0.016, 6)}
    keep(song, {"takes.0.corrections.0000000001": hat})
    client = Client(headers={"host": "127.0.0.1"})
    base = song.current.number  # type: ignore[union-attr]
    asked = {"id": snare.id, "middle": True, "base": base}
    assert client.post(f"/{song.slug}/move/", asked, JSON).status_code == 200
    song.refresh_from_db()
    sheet = sheet_of(song)
    start = sheet.tempo.first_downbeat_s
    pair = [h for h in hits_of(sheet) if abs(h.time_s - snare.time_s) < 0.1]
    off = sorted((h.time_s - start + 0.0625) % 0.125 - 0.0625 for h in pair)
    assert off == pytest.approx([-0.008, 0.008], abs=2e-4)
    alone = next(h for h in hits_of(sheet) if h.piece == "kick")
    refused = client.post(f"/{song.slug}/move/", asked | {"id": alone.id, "base": base + 1}, JSON)
    assert refused.status_code == 400
    assert "fall apart" in refused.json()["error"]


def test_a_new_rule_starts_from_what_was_played_not_from_what_was_moved(song: Song) -> None:
    sheet = sheet_of(song)
    before = fresh_rule(study_of(sheet), NATURAL)
    assert before["school"] == "feel"
    keep(song, {"timing.rules": [LATE]})
    assert fresh_rule(study_of(sheet_of(song)), NATURAL) == before
    assert fresh_rule(study_of(sheet), TIGHT) == before | {"school": "exact", "window_ms": 0.0}


def test_hits_and_tempo_go_through_a_midi_file(song: Song, tmp_path: Path) -> None:
    path = exports.export(song, "midi", tmp_path / "out.mid")[0]
    keep(song, {"tempo.bpm": 90.0})
    tempo.from_midi(song, path)
    song.refresh_from_db()
    assert sheet_of(song).tempo.bpm == pytest.approx(120.0, abs=0.001)
    assert len(exports.export(song, "csv", tmp_path / "out.csv")) == 2


def test_a_sheet_is_taken_over_without_what_belongs_to_the_other_song(
    song: Song, tmp_path: Path
) -> None:
    patch = {"mics.snare_top.trim_db": -4.5, "mics.snare_top.repair.dc": 0.01}
    keep(song, patch)
    path = exports.export(song, "json", tmp_path / "sheet.json")[0]
    other = small_song(tmp_path / "other", "Harbour Lights")
    made = sheet_in.take_over(other, sheet_in.read(path), "sheet.json")
    assert made.sheet.mics["snare_top"].trim_db == -4.5
    assert made.sheet.mics["snare_top"].repair.dc == 0
    document = json.loads(path.read_text())
    document["mics"] = {"tom_9": document["mics"]["snare_top"] | {"role": "tom", "index": 9}}
    path.write_text(json.dumps(document))
    with pytest.raises(ArkundError, match="no mic"):
        sheet_in.take_over(other, sheet_in.read(path), "sheet.json")
    path.write_text("{")
    with pytest.raises(ArkundError):
        sheet_in.take_over(other, sheet_in.read(path), "sheet.json")


def test_the_command_line_exports_and_follows(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    assert cli.main(["export", song.slug, "csv", "-o", str(tmp_path / "h.csv"), "--json"]) == 0
    files = json.loads(capsys.readouterr().out)["files"]
    assert [Path(f).exists() for f in files] == [True, True]
    assert cli.main(["tempo", song.slug, "--drifting", "--bpm", "90"]) == 1
    assert "one of --midi" in capsys.readouterr().err
    assert cli.main(["export", song.slug, "midi", "-o", str(tmp_path / "no" / "x.mid")]) == 1


def test_doubtful_hits_are_no_notes_unless_asked_for(
    song: Song, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    listed = list(hits_of(sheet_of(song)))
    listed[3] = replace(listed[3], confidence=0.3)
    monkeypatch.setattr(exports, "hits_of", lambda sheet: listed)
    path = tmp_path / "out.mid"

    def notes() -> int:
        return sum(m.type == "note_on" for m in mido.MidiFile(path))

    command = ["export", song.slug, "midi", "-o", str(path), "--json"]
    assert cli.main(command) == 0
    told = capsys.readouterr()
    assert json.loads(told.out)["left_out"] == 1
    assert "1 hit less than 60% sure is left out" in told.err
    assert notes() == len(listed) - 1
    assert cli.main([*command, "--least-sure", "0"]) == 0
    assert notes() == len(listed)
    assert cli.main([*command, "--least-sure", "60"]) == 1
    assert "from 0 to 1" in capsys.readouterr().err
    for query, fewer in (({}, 1), ({"all": "1"}, 0)):
        answer = Client().get(reverse("hits-midi", args=[song.slug]), query)
        path.write_bytes(b"".join(answer.streaming_content))
        assert notes() == len(listed) - fewer
    page = Client().get(reverse("station", args=[song.slug, "load-in"])).content.decode()
    assert "without 1 doubtful hit " in page


def test_the_tempo_comes_from_a_midi_file_by_the_page_and_a_wrong_one_is_refused(
    song: Song, tmp_path: Path
) -> None:
    from django.core.files.uploadedfile import SimpleUploadedFile

    client = Client(headers={"host": "127.0.0.1"})
    sent = b"".join(client.get(f"/{song.slug}/hits.mid").streaming_content)  # type: ignore[attr-defined]
    keep(song, {"tempo.bpm": 90.0})
    back = client.post(f"/{song.slug}/tempo/midi/", {"midi": SimpleUploadedFile("a.mid", sent)})
    assert back.json()["sheet"]["tempo"]["bpm"] == pytest.approx(120.0, abs=0.001)
    wrong = SimpleUploadedFile("../../etc/a.mid", b"no midi")
    refused = client.post(f"/{song.slug}/tempo/midi/", {"midi": wrong})
    assert refused.status_code == 400
    assert refused.json()["error"].startswith("a.mid is not a MIDI file")
    assert client.post(f"/{song.slug}/tempo/midi/", {}).status_code == 400
    assert client.post(f"/{song.slug}/tempo/follow/", {}, JSON).status_code == 200
    page = " ".join(client.get(f"/{song.slug}/load-in/").content.decode().split())
    assert "Follow drummer" in page
    assert "peak bar" in page


def test_a_mic_s_line_names_the_worst_and_where_it_lies(song: Song) -> None:
    from arkund.bench.health import health, places

    sheet = sheet_of(song)
    measures = {
        "flags": ["clipped", "dc"],
        "clipped_runs": [(1.0, 3), (1.01, 9), (5.0, 1)],
        "dc": -0.012,
        "peak_at_s": 5.0,
        "peak_dbfs": 0.0,
    }
    assert health(measures) == (
        "3 clipped runs, the longest 9 samples; a standing offset of −1.20 %."
    )
    found = places(measures, sheet, grid_of(sheet))
    assert [(p["words"], p["at"]) for p in found] == [
        ("peak", 5.0),
        ("clipped", 1.0),
        ("clipped", 5.0),
    ]
    assert found[0]["bar"] == int(grid_of(sheet).bar_at(5.0))
    assert health({"flags": ["silent"]}).startswith("Holds digital silence")


def test_a_try_is_put_in_place_around_its_bars_as_the_whole_song_would_be(song: Song) -> None:
    patch = {"timing.rules": [LATE]}
    whole, part = sheet_of(song, patch=patch), sheet_of(song, patch=patch, bars=(2, 2))
    assert whole.moves != part.moves
    assert edits_of(part).moves == edits_of(whole).moves
    start, stop = (round(grid_of(whole).bar_start_s(b) * RATE) for b in (2, 3))
    for mic in ("kick_in", "snare_top"):
        a, b = (render_span(s, mic, "recorded", start, stop) for s in (whole, part))
        assert np.array_equal(a, b)
        assert not np.array_equal(a, render_span(sheet_of(song), mic, "recorded", start, stop))


def test_a_preview_is_what_any_rendering_is(song: Song) -> None:
    """Side by side, from files it remembers, in whatever order: the same samples."""
    sheet = sheet_of(
        song,
        patch={
            "timing.rules": [LATE],
            "mics.snare_top.chain.eq.high_pass.on": True,
            "buses.strike.fader_db": -6.0,
        },
    )
    for name, variant in (
        ("output", "now"),
        ("output", "removed"),
        ("snare_top", "now"),
        ("output", "recorded"),
    ):
        for start in (5 * RATE, RATE + 17, -100):
            got = preview_span(sheet, name, variant, start, start + RATE)
            assert np.array_equal(got, render_span(sheet, name, variant, start, start + RATE))


def test_sheets_asked_for_at_once_are_reckoned_once(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    calls: list[int] = []
    reckon = moving.edits_in

    def slowly(*asked: object) -> object:
        calls.append(1)
        time.sleep(0.05)
        return reckon(*asked)  # type: ignore[arg-type]

    monkeypatch.setattr(moving, "edits_in", slowly)
    before = song.current.sheet  # type: ignore[union-attr]
    after = apply_patch(before, {"timing.rules": [LATE | {"strength": 0.613}]})
    with ThreadPoolExecutor(4) as pool:
        made = list(pool.map(lambda _: timing.retimed(before, after), range(4)))
    assert len(calls) == 1
    assert len({sheet.moves for sheet in made}) == 1


@pytest.mark.parametrize("path", ["timing.to_s.nobody", "timing.lines.nobody"])
def test_a_hit_that_no_take_has_is_not_moved(song: Song, path: str) -> None:
    with pytest.raises(ArkundError, match="No take has a hit “nobody”"):
        keep(song, {path: 1.0})
    known = hits_of(sheet_of(song))[3].id
    assert keep(song, {f"timing.to_s.{known}": 1.76}).current.sheet.timing.to_s == {known: 1.76}  # type: ignore[union-attr]
