"""Who carries what on a stored song: from the command line, on the page, and as findings."""

import json
from pathlib import Path

import pytest
from django.test import Client

from arkund import cli
from arkund.core.advise import first_pass
from arkund.core.advise.findings import modules_for
from arkund.core.advise.level import carries
from arkund.core.advise.module import Module
from arkund.core.advise.school import SCHOOLS
from arkund.core.kit.roles import is_shell
from arkund.songs import findings, revisions
from arkund.songs.models import Song
from tests.making import whole_song

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def song(data: Path, recording: Path) -> Song:
    return whole_song(recording)


def test_shares_add_up_and_follow_the_faders(
    song: Song, client: Client, capsys: pytest.CaptureFixture[str]
) -> None:
    capsys.readouterr()
    assert cli.main(["carries", song.slug, "--json"]) == 0
    found = json.loads(capsys.readouterr().out)
    assert {"kick", "snare", "hat"} <= set(found["pieces"])
    for piece in found["pieces"].values():
        for band in range(4):
            assert sum(m["share"][band] for m in piece["mics"].values()) == pytest.approx(
                1, abs=0.01
            )
    assert sum(found["low_end"]["by_mic"].values()) == pytest.approx(1, abs=0.01)
    drums = {o: s for o, s in found["low_end"]["by_owner"].items() if is_shell(o) or o == "bed"}
    assert found["low_end"]["owner"] == max(drums, key=lambda o: drums[o])
    assert song.current is not None
    quiet = {f"mics.{m}.fader_db": -90 for m in ("kick_in", "kick_out")}
    revisions.keep(song.pk, song.current.number, quiet)
    page = client.get(f"/{song.slug}/carries/").json()
    kick = next(p for p in page["pieces"] if p["piece"] == "kick")
    at = [m["mic"] for m in page["mics"]]
    assert "kick_in" not in at or max(kick["share"][at.index("kick_in")]) == 0
    assert page["low_end"][0]["label"] != "kick"


def test_a_mic_that_competes_is_found_with_its_share(song: Song) -> None:
    study = findings.study_of_song(song)
    low = carries.low_end(study)
    assert low is not None
    school = SCHOOLS["tight"]
    for mic in study.mics:
        found = carries.find_competing(study, mic, school)
        competes = low.by_mic.get(mic, 0) >= carries.COMPETES and carries.owner_of(mic) != low.owner
        assert competes or not found
        for one in found:
            change = one.gain["low_share_db"]
            assert change.now - change.then >= carries.LEAST_TAKEN_DB
            assert one.measured["share"] == low.by_mic[mic]
            assert one.is_doubtful
            after = carries.low_end(study.tried(one.proposal))
            assert after is not None
            assert after.by_mic[mic] < low.by_mic[mic]


def test_a_high_pass_that_takes_next_to_nothing_is_not_proposed(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    study = findings.study_of_song(song)
    monkeypatch.setattr(carries, "COMPETES", 0.0)
    floor_tom = study.close("tom_2")[0]
    monkeypatch.setattr(carries, "cutoff_hz", lambda *_: (70.0, ""))
    assert carries.find_competing(study, floor_tom, SCHOOLS["tight"])
    monkeypatch.setattr(carries, "cutoff_hz", lambda *_: (20.0, ""))
    assert not carries.find_competing(study, floor_tom, SCHOOLS["tight"])


def test_far_mics_never_own_the_low_end(song: Song) -> None:
    study = findings.study_of_song(song)
    far = {f"mics.{m}.fader_db": 12.0 for m in study.with_role("overhead", "room")}
    close = {f"mics.{m}.fader_db": -20.0 for m in study.mics if f"mics.{m}.fader_db" not in far}
    low = carries.low_end(study.tried(far | close))
    assert low is not None
    assert max(low.by_owner, key=lambda o: low.by_owner[o]) in ("overhead", "room")
    assert is_shell(low.owner)


def test_what_is_for_the_ear_is_found_and_no_pass_asks_for_it(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    study, school = findings.study_of_song(song), SCHOOLS["tight"]
    asked = [m for m in modules_for(school) if m.for_the_ear]
    assert {m.name for m in asked} == {"align", "low_end"}
    for module in asked:
        for subject in module.subjects(study.sheet):
            assert all(f.is_doubtful for f in module.find(study, subject, school))
    seen: list[Module] = []
    monkeypatch.setattr(first_pass, "_look", lambda module, *_: seen.append(module) or [])
    monkeypatch.setattr(first_pass.moves, "find", lambda *_: [])
    monkeypatch.setattr(first_pass.moves, "ceiling", lambda *_: [])
    list(first_pass.steps(lambda: study, school, lambda _: False))
    assert seen
    assert not any(module.for_the_ear for module in seen)
