"""Regions on stored songs: derived, moved, kept across a new threshold, heard, and refused."""

import json
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.test import Client

from arkund import cli
from arkund.core.advise.clean import gate
from arkund.core.errors import ArkundError
from arkund.songs import by_hand, findings, revisions, sheet_in
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.rendering import render_span
from arkund.songs.timing import sheet_of
from arkund.songs.wording import label_of
from tests.making import small_song

pytestmark = pytest.mark.django_db(transaction=True)


def _clean(song: Song) -> Any:
    song.refresh_from_db()
    return sheet_of(song).mics["snare_top"].clean


def test_from_the_gate_to_the_hand_and_back(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    assert cli.main(["clean", song.slug, "--by-hand", "snare_top", "--json"]) == 0
    made = json.loads(capsys.readouterr().out)["regions"]
    mine = _clean(song)
    assert (mine.on, mine.opens_on, len(mine.regions)) == (True, "hand", len(made))
    first = made[0]["id"]
    by_hand.edit(song, "snare_top", "edge", first, edge="in", at=mine.regions[first].at - 400)
    moved = _clean(song).regions[first]
    assert (moved.by_hand, moved.at) == (True, mine.regions[first].at - 400)
    path = "mics.snare_top.clean"
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(
        song.pk, song.current.number, {f"{path}.opens_on": "threshold", f"{path}.hold_ms": 300}
    )
    by_hand.derive(song, "snare_top")
    kept = _clean(song)
    assert moved in kept.regions.values()
    others = [r for r in kept.regions.values() if not r.by_hand]
    before = {round((one["stop_s"] - one["at_s"]) * 48000) for one in made}
    assert others
    assert all(abs(r.frames - b) > 5000 for r in others for b in before)


def test_regions_start_from_the_gate_that_is_proposed(song: Song) -> None:
    school = findings.school_of_song(song)
    (found,) = (
        f
        for f in gate.find(findings.study_of_song(song), "snare_top", school)
        if f.quantity == "gate"
    )
    wanted = {k.rsplit(".", 1)[1]: v for k, v in found.proposal.items()}
    by_hand.derive(song, "snare_top")
    made = _clean(song).model_dump()
    assert wanted["hold_ms"] != type(_clean(song))().hold_ms
    assert {k: made[k] for k in wanted if k != "opens_on"} == {
        k: v for k, v in wanted.items() if k != "opens_on"
    }


def test_the_log_says_how_many_regions_changed(song: Song) -> None:
    by_hand.derive(song, "snare_top")
    spans = _clean(song).model_dump()["regions"]
    first = next(iter(spans))
    path = "mics.snare_top.clean.regions"
    before, now = {path: spans}, {path: spans | {first: spans[first] | {"gain_db": -3.0}}}
    said = label_of(now, before)
    assert f"1 of {len(spans)} changed" in said
    assert "→" not in said


def test_a_drum_that_is_never_struck_starts_without_regions(song: Song) -> None:
    song.refresh_from_db()
    assert song.current is not None
    gone = {h.id: {"gone": True} for h in hits_of(sheet_of(song)) if h.piece == "snare"}
    number = revisions.keep(
        song.pk, song.current.number, {f"takes.0.corrections.{i}": c for i, c in gone.items()}
    ).number
    made = by_hand.derive(song, "snare_top", base=number)
    assert made.label == "No regions yet on snare top"
    assert _clean(song).opens_on == "hand"
    by_hand.edit(song, "snare_top", "draw", at=1000, stop=9000)
    assert [(r.at, r.frames) for r in _clean(song).regions.values()] == [(1000, 8000)]


def test_what_passes_is_heard_and_the_rest_is_not(song: Song) -> None:
    by_hand.derive(song, "snare_top")
    spans = _clean(song).spans
    path = "mics.snare_top.clean.range_db"
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(song.pk, song.current.number, {path: -80})
    song.refresh_from_db()
    sheet = sheet_of(song)
    gap = next((a.stop, b.at) for a, b in pairwise(spans) if b.at - a.stop > 2000)
    silent = render_span(sheet, "snare_top", "now", gap[0] + 600, gap[1] - 600)
    recorded = render_span(sheet, "snare_top", "recorded", gap[0] + 600, gap[1] - 600)
    assert np.abs(silent).max() < 0.01 * np.abs(recorded).max()
    heard = render_span(sheet, "snare_top", "now", spans[0].at, spans[0].stop)
    assert np.abs(heard).max() > 0.05


def test_hundreds_of_regions_and_what_cannot_be(song: Song, client: Client) -> None:
    regions = {f"r{n}": {"at": 500 * n, "frames": 400} for n in range(1, 401)}
    song.refresh_from_db()
    assert song.current is not None
    path = "mics.snare_top.clean"
    number = revisions.keep(
        song.pk,
        song.current.number,
        {f"{path}.regions": regions, f"{path}.on": True, f"{path}.opens_on": "hand"},
    ).number
    page = client.get(f"/{song.slug}/picture/clean/", {"mic": "snare_top", "bars": "1-2"})
    assert page.status_code == 200
    shown = page.json()["regions"]
    assert 10 < len(shown) <= 400
    for patch, words in (
        ({f"{path}.regions.r3.fade_out": 500}, "fades"),
        ({f"{path}.regions.r3.frames": 501}, "begins before region r3 ends"),
        ({f"{path}.regions.r3.gain_db": 3}, "0"),
        ({f"{path}.regions.R-3": {"at": 0, "frames": 1}}, "R-3"),
    ):
        with pytest.raises(ArkundError, match=words):
            revisions.keep(song.pk, number, patch)
    asked = {"base": number, "mic": "snare_top", "what": "split", "region": "r3", "at": 1}
    for wrong, status in (
        (asked, 400),
        (asked | {"region": "r9000"}, 400),
        (asked | {"mic": "overhead_l"}, 400),
        (asked | {"what": "burn"}, 400),
        (asked | {"base": number - 1, "at": 1600}, 409),
        (asked | {"at": -4}, 400),
    ):
        got = client.post(f"/{song.slug}/clean/regions/", wrong, "application/json")
        assert got.status_code == status, wrong
        assert got.json()["error"].endswith(".")
    fine = client.post(f"/{song.slug}/clean/regions/", asked | {"at": 1600}, "application/json")
    assert fine.status_code == 200
    assert len(fine.json()["sheet"]["mics"]["snare_top"]["clean"]["regions"]) == 401


def test_a_sheet_file_brings_regions_to_the_same_sound_alone(song: Song, tmp_path: Path) -> None:
    by_hand.derive(song, "snare_top")
    song.refresh_from_db()
    assert song.current is not None
    revisions.keep(
        song.pk,
        song.current.number,
        {
            "mics.kick_in.clean.key.source": "snare_top",
            "mics.kick_in.clean.hold_ms": 99,
        },
    )
    song.refresh_from_db()
    assert cli.main(["export", song.slug, "json", "-o", str(tmp_path / "sheet.json")]) == 0
    regions = _clean(song).regions
    by_hand.edit(song, "snare_top", "remove", next(iter(regions)))
    song.refresh_from_db()
    sheet_in.take_over(song, sheet_in.read(tmp_path / "sheet.json"), "sheet.json")
    assert _clean(song).regions == regions
    two_takes = small_song(tmp_path / "other", "Slate Yard", takes=2)
    two_takes.refresh_from_db()
    sheet_in.take_over(two_takes, sheet_in.read(tmp_path / "sheet.json"), "sheet.json")
    two_takes.refresh_from_db()
    taken = sheet_of(two_takes).mics
    assert (taken["snare_top"].clean.opens_on, taken["snare_top"].clean.regions) == ("hits", {})
    assert taken["kick_in"].clean.hold_ms == 99
    assert taken["kick_in"].clean.key.source == "snare_top"
