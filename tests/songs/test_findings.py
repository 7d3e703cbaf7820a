"""Findings of stored songs: remembered, answered, applied in a first pass, taken back."""

import json
from pathlib import Path
from typing import Any

import pytest

from arkund import cli
from arkund.core.advise import moves
from arkund.core.advise.findings import MODULES, questions
from arkund.core.advise.school import SCHOOLS
from arkund.core.errors import ArkundError
from arkund.songs import cards, counting, findings, first_pass, jobs, revisions, schools
from arkund.songs.models import Answer, Job, OwnSchool, Song
from arkund.songs.timing import sheet_of
from tests.making import small_song

pytestmark = pytest.mark.django_db(transaction=True)


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    made = small_song(tmp_path / "in")
    made.refresh_from_db()
    return made


@pytest.fixture
def without_moves(monkeypatch: pytest.MonkeyPatch) -> None:
    """A pass without its dearest part, where what is stored of it is asked, not how it comes out."""
    monkeypatch.setattr(moves, "find", lambda *_: [])


def _first(song: Song, *, with_proposal: bool = True) -> Any:
    return next(f for f in findings.all_findings(song) if bool(f.proposal) == with_proposal)


def test_what_is_known_is_not_counted_again(song: Song, monkeypatch: pytest.MonkeyPatch) -> None:
    assert findings.known_findings(song)[0] == []
    first = findings.all_findings(song)
    assert first

    def fail(*_: object) -> None:
        raise AssertionError("counted again")

    study, school = findings.study_of_song(song), findings.school_of_song(song)
    for module in MODULES:
        stubborn = type(module)(**{**module.__dict__, "find": fail})
        object.__setattr__(stubborn.find, "__name__", module.find.__name__)
        for subject in module.subjects(study.sheet):
            findings.count(stubborn, subject, study, school)
    assert findings.known_findings(song) == (first, 0)


def test_only_what_a_change_touches_is_counted_anew(song: Song) -> None:
    findings.all_findings(song)
    revisions.keep(song.pk, 1, {"mics.snare_top.chain.compressor.ratio": 8.0})
    song.refresh_from_db()
    school, sheet = findings.school_of_song(song), findings.study_of_song(song).sheet
    anew = {
        (module.name, subject)
        for module, subject in questions(sheet, school)
        if findings.known(findings.memo_key(module, subject, sheet, school)) is None
    }
    assert anew == {
        ("dynamics", "snare_top"),
        ("replace", "snare_top"),  # a layer lies under the drum as it comes out of its chain
        ("balance", "snare"),
        *(("bus", name) for name in ("strike", "bloom", "weight", "grit")),
        *(("density", group) for group in ("kick", "snare")),
        ("density", "drum_bus"),
        ("mix", "drum_bus"),
        ("goal", "drum_bus"),
        ("low_end", "kit"),
        ("space", "space"),
    }
    revisions.undo(song.pk)
    song.refresh_from_db()
    assert findings.known_findings(song)[1] == 0


def test_questions_are_named_once_a_sheet_and_anew_for_another_school(
    song: Song, monkeypatch: pytest.MonkeyPatch
) -> None:
    sheet, named = findings.sheet_of(song), []
    name = findings.memo_key
    monkeypatch.setattr(findings, "memo_key", lambda *a: (named.append(a), name(*a))[1])
    first = findings.asked(sheet, SCHOOLS["natural"])
    assert findings.asked(sheet, SCHOOLS["natural"]) is first
    assert len(named) == len(first) > 20
    other = findings.asked(sheet, SCHOOLS["tight"])
    assert {key for *_, key in other}.isdisjoint(key for *_, key in first)


def test_the_memo_survives_the_process(song: Song) -> None:
    first = findings.all_findings(song)
    findings._remembered.cache_clear()
    assert findings.known_findings(song) == (first, 0)


def test_a_memo_of_another_version_is_counted_anew(song: Song) -> None:
    first = findings.all_findings(song)
    sheet, school = findings.sheet_of(song), findings.school_of_song(song)
    asked = list(findings.questions(sheet, school))
    findings._remembered.cache_clear()
    for module, subject in asked:
        key = findings.memo_key(module, subject, sheet, school)
        findings.storage.store_memo(key, '[{"id": "of a later version"}]')
    assert findings.known_findings(song) == ([], len(asked))
    assert findings.all_findings(song) == first
    assert findings.known_findings(song) == (first, 0)


def test_another_school_is_another_question(song: Song) -> None:
    natural = findings.all_findings(song)
    schools.choose(song, "tight")
    assert findings.known_findings(song)[1] > 0
    assert findings.all_findings(song) != natural


def test_applying_keeps_a_revision_with_reason_figures_and_answer(song: Song) -> None:
    finding = next(f for f in findings.all_findings(song) if f.proposal and f.gain)
    made = findings.apply(song, 1, finding)
    assert (made.number, made.reason, made.finding) == (2, finding.reason, finding.id)
    name, change = next(iter(finding.gain.items()))
    assert made.measures[name] == [change.now, change.then]
    song.refresh_from_db()
    rows = {r["id"]: r for r in findings.listed(song)["findings"]}
    assert rows[finding.id]["state"] == "applied"
    assert rows[finding.id]["revision"] == 2


def test_undoing_opens_the_finding_again(song: Song) -> None:
    finding = _first(song)
    findings.apply(song, 1, finding)
    revisions.undo(song.pk)
    song.refresh_from_db()
    rows = {r["id"]: r for r in findings.listed(song)["findings"]}
    assert rows[finding.id]["state"] == "open"


def test_declining_needs_a_word_why_and_is_remembered(song: Song) -> None:
    finding = _first(song)
    with pytest.raises(ArkundError, match="in a word"):
        findings.decline(song, finding, "  ")
    findings.decline(song, finding, "the drummer likes it so")
    rows = {r["id"]: r for r in findings.listed(song)["findings"]}
    assert rows[finding.id]["state"] == "declined"
    assert rows[finding.id]["declined_because"] == "the drummer likes it so"
    findings.reopen(song, finding.id)
    assert findings.listed(song)["findings"][0]["state"] == "open"


def test_a_settled_finding_can_not_be_applied_twice(song: Song) -> None:
    finding = _first(song)
    findings.apply(song, 1, finding)
    song.refresh_from_db()
    with pytest.raises(ArkundError, match="is settled"):
        findings.find_by_id(song, finding.id)


def test_a_stale_answer_meets_a_conflict(song: Song) -> None:
    finding = _first(song)
    revisions.keep(song.pk, 1, {"mics.kick_in.pan": 0.2})
    with pytest.raises(revisions.Conflict):
        findings.apply(song, 1, finding)
    assert not Answer.objects.exists()


def test_a_value_of_ones_own_answers_as_changed(song: Song) -> None:
    finding = _first(song)
    path = next(iter(finding.proposal))
    made = revisions.keep(song.pk, 1, {path: finding.proposal[path]}, finding=finding.id)
    findings.note_changed(song, finding.id, made)
    assert Answer.objects.get().state == "changed"


@pytest.mark.usefixtures("without_moves")
def test_a_first_pass_is_one_revision_a_step_and_skips_what_was_declined(song: Song) -> None:
    finding = _first(song)
    findings.decline(song, finding, "no")
    seen: list[float] = []
    report = first_pass.run(song, progress=lambda share, what: seen.append(share))
    song.refresh_from_db()
    assert song.current is not None
    assert song.current.number == 1 + len(report["applied"])
    assert [s["revision"] for s in report["applied"]] == list(range(2, song.current.number + 1))
    assert finding.id not in {s["id"] for s in report["applied"]}
    assert finding.id in {s["id"] for s in report["asked"]}
    assert -10 <= report["after"]["peak_dbfs"] <= -6
    assert song.current.measures["mix"]["after"] == report["after"]
    assert seen == sorted(seen)
    assert seen[-1] == 1.0


@pytest.mark.usefixtures("without_moves")
def test_any_step_of_a_pass_is_taken_back_alone(song: Song) -> None:
    report = first_pass.run(song)
    song.refresh_from_db()
    assert song.current is not None
    before = song.current.sheet
    step = report["applied"][1]
    revisions.take_back(song.pk, step["revision"], all_the_same=True)
    song.refresh_from_db()
    differing = {p for p in step_patch(song, step["revision"])}
    assert song.current.sheet != before
    assert set(song.current.patch) == differing

    # All of it, the last step first, leaves the sheet as it was before the pass.
    for step in reversed(report["applied"]):
        if step is not report["applied"][1]:
            revisions.take_back(song.pk, step["revision"], all_the_same=True)
    song.refresh_from_db()
    assert song.current.sheet == song.revisions.get(number=1).sheet


def step_patch(song: Song, number: int) -> dict[str, Any]:
    patch: dict[str, Any] = song.revisions.get(number=number).patch
    return patch


@pytest.mark.usefixtures("without_moves")
def test_a_pass_can_be_stopped_and_what_was_done_stays(song: Song) -> None:
    with pytest.raises(first_pass.PassCancelled, match="Stopped after 0"):
        first_pass.run(song, cancelled=lambda: True)
    job = Job.objects.create(kind="first-pass", song=song)
    jobs.run_job.call_local(job.pk)
    job.refresh_from_db()
    assert job.state == "done"
    assert job.result["school"] == "Natural"


def test_the_background_counts_what_is_missing(song: Song) -> None:
    counting._count(song.pk)
    assert findings.known_findings(song)[1] == 0


def test_schools_row_by_row_and_under_a_name_of_ones_own(song: Song) -> None:
    schools.choose(song, "Tight")
    changed = schools.change_row(song, "toms", "tuck")
    assert (changed.name, changed.toms, changed.trim) == ("Tight, changed", "tuck", "full")
    with pytest.raises(ArkundError, match="given schools"):
        schools.save_as(song, "natural")
    with pytest.raises(ArkundError, match="toms"):
        schools.change_row(song, "toms", "burn")
    with pytest.raises(ArkundError, match="no row"):
        schools.change_row(song, "cowbell", "more")
    schools.save_as(song, "Basement")
    assert OwnSchool.objects.get().rows["toms"] == "tuck"
    schools.choose(song, "open")
    assert schools.choose(song, "basement").toms == "tuck"
    assert schools.all_names() == ["Tight", "Natural", "Open", "Basement"]


def test_the_command_line_finds_and_passes(song: Song, capsys: pytest.CaptureFixture[str]) -> None:
    assert cli.main(["findings", song.slug, "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)["findings"]
    wanted = {
        "id",
        "station",
        "subject",
        "measured",
        "proposal",
        "reason",
        "gain",
        "confidence",
        "state",
    }
    assert rows
    assert all(wanted <= set(r) for r in rows)
    assert cli.main(["findings", song.slug, "--station", "kitchen"]) == 1
    assert "There is no station “kitchen”" in capsys.readouterr().err
    assert cli.main(["first-pass", song.slug, "--school", "loud"]) == 1
    assert "There is no school “loud”" in capsys.readouterr().err
    assert cli.main(["first-pass", song.slug, "--school", "open", "--json"]) == 0
    report = json.loads(capsys.readouterr().out)
    assert set(report) >= {"applied", "left_alone", "before", "after"}
    assert Job.objects.get(kind="first-pass").state == "done"


@pytest.mark.usefixtures("without_moves")
def test_a_preview_says_what_the_pass_would_do_and_changes_nothing(song: Song) -> None:
    would = first_pass.preview(song)
    song.refresh_from_db()
    assert song.current is not None
    assert (song.current.number, would["revision"]) == (1, 1)
    ids = [change["id"] for station in would["stations"] for change in station["changes"]]
    assert len(ids) == would["changes"] > 5
    report = first_pass.run(song, without=frozenset(ids[:2]))
    done = [step["id"] for step in report["applied"]]
    assert not set(ids[:2]) & set(done)
    assert set(ids[2:8]) & set(done)


@pytest.mark.usefixtures("without_moves")
def test_the_card_names_what_is_wanted_and_what_each_stage_does(song: Song) -> None:
    first_pass.run(song)
    song.refresh_from_db()
    card = cards.card_report(song, "open")
    assert card["school"] == "Open"
    assert card["wanted"]["loudness at equal true peak"] == 1.0
    assert set(card["as_recorded"]) == set(card["now"])
    left_out = {stage["left_out"]: stage["now"] for stage in card["by_stage"]}
    assert {"groups", "drum bus"} <= set(left_out)
    assert any(values != card["now"] for values in left_out.values())
    missed = {
        name
        for name, least in card["wanted"].items()
        if card["now"][name] - card["as_recorded"][name] < least - 0.1
    }
    assert missed <= set(card["missed"])
    with pytest.raises(ArkundError, match="no school"):
        cards.card_report(song, "loud")


@pytest.mark.usefixtures("without_moves")
def test_the_cards_rows_begin_with_the_worst_and_name_what_costs_it(song: Song) -> None:
    song.refresh_from_db()
    assert song.current is not None
    kicks = [mic for mic in sheet_of(song).mics if mic.startswith("kick")]
    soft = {f"mics.{mic}.fader_db": -20.0 for mic in kicks}
    revisions.keep(song.pk, song.current.number, soft)
    study = findings.study_of_song(song)
    rows = cards.rows_of(study, SCHOOLS["tight"])
    with_goal = [r["missing"] for r in rows if r["missing"] is not None]
    assert with_goal[: cards.WORST] == sorted(with_goal, reverse=True)[: cards.WORST]
    assert len({r["name"] for r in rows}) == len(rows)
    kick = next(r for r in rows[: cards.WORST] if r["name"].startswith("kick"))
    assert (kick["met"], kick["wish"].endswith("or more")) == (False, True)
    assert all(r.get("station") for r in rows if r.get("cause"))
