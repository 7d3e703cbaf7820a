"""Findings of stored songs: memoised by exactly what they rest on, with the engineer's answers."""

import hashlib
import json
from collections.abc import Iterator
from functools import lru_cache
from typing import Any

from django.db import transaction

from arkund.core.advise.finding import Finding, finding_from
from arkund.core.advise.findings import STATION_OF, questions
from arkund.core.advise.load_in import never_hit
from arkund.core.advise.module import Module
from arkund.core.advise.school import School, school_of
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.hits.moments import Moment
from arkund.core.render.engine import Engine
from arkund.core.sheet.sheet import Sheet
from arkund.songs import lately, revisions, storage
from arkund.songs.models import Answer, Revision, Song
from arkund.songs.studies import study_of
from arkund.songs.timing import sheet_of
from arkund.songs.wording import label_of

OPEN = "open"


def school_of_song(song: Song) -> School:
    return school_of(song.school)


def study_of_song(song: Song, sheet: Sheet | None = None, engine: Engine | None = None) -> Study:
    """The song under study, at its current revision by default."""
    return study_of(sheet or sheet_of(song), engine)


def questions_for_the_ear(study: Study) -> list[dict[str, Any]]:
    """Drums without a hit, each with its loudest moments: time in s, bar, level in dBFS, and by how many
    dB it exceeds usual bleed."""
    return [
        {
            "piece": piece,
            "mic": study.close(piece)[0],
            "asked": "never hit?",
            "places": [
                {"time_s": m.time_s, "bar": study.bar_of(m.time_s), **_levels(m)}
                for m in never_hit.open_moments(study, piece)
            ],
        }
        for piece in never_hit.MODULE.subjects(study.sheet)
        if never_hit.open_moments(study, piece)
    ]


def _levels(moment: Moment) -> dict[str, float]:
    return {"level_dbfs": moment.level_dbfs, "over_bleed_db": moment.over_db}


def memo_key(
    module: Module, subject: str, sheet: Sheet, school: School, common: str | None = None
) -> str:
    """Hash of all that the answer rests on; ``common`` is `rests_on` of the same, where many are
    asked for."""
    common = rests_on(sheet, school) if common is None else common
    parts = [common, module.key, subject, list(module.reads(sheet, subject))]
    text = json.dumps(parts, sort_keys=True, default=_plain)
    return hashlib.sha1(text.encode()).hexdigest()


def rests_on(sheet: Sheet, school: School) -> str:
    """What every answer rests on: the takes as they are put together, their bars, and the school."""
    parts = [
        school.model_dump(),
        [t.model_dump(mode="json") for t in sheet.takes],
        [(n, m.unused, m.overdub) for n, m in sorted(sheet.mics.items())],
        [s.model_dump(mode="json") for s in (*sheet.comp, *sheet.copies)],
        sheet.moves,
        sheet.tempo.model_dump(mode="json"),
    ]
    return hashlib.sha1(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def _plain(value: Any) -> Any:
    return value.model_dump(mode="json")


def asked(sheet: Sheet, school: School) -> list[tuple[Module, str, str]]:
    """All questions on a sheet, each with the name of its memo. A page asks for them again and again
    while they are counted, so they are named once a sheet."""

    def named() -> list[tuple[Module, str, str]]:
        common = rests_on(sheet, school)
        return [
            (module, subject, memo_key(module, subject, sheet, school, common))
            for module, subject in questions(sheet, school)
        ]

    return lately.made(f"questions, {school.model_dump_json()}", sheet, named)


@lru_cache(maxsize=4096)
def _remembered(key: str) -> tuple[Finding, ...]:
    text = storage.load_memo(key)
    if text is None:
        raise KeyError(key)
    return tuple(finding_from(row) for row in json.loads(text))


def known(key: str) -> tuple[Finding, ...] | None:
    """The findings under a key, or None where they have not been counted yet, or were by a version
    that told them otherwise."""
    try:
        return _remembered(key)
    except (KeyError, TypeError):
        return None


def count(
    module: Module, subject: str, study: Study, school: School, key: str = ""
) -> tuple[Finding, ...]:
    """The findings of one question, from the memo or found now; ``key`` is its `memo_key` where
    that is known."""
    key = key or memo_key(module, subject, study.sheet, school)
    found = known(key)
    if found is None:
        rows = [f.as_dict() for f in module.find(study, subject, school)]
        storage.store_memo(key, json.dumps(rows))
        # The same answer whether it was just found or remembered.
        found = tuple(finding_from(r) for r in json.loads(json.dumps(rows)))
    return found


def all_findings(song: Song) -> list[Finding]:
    """Every finding on the song as it stands; counts what is not known yet."""
    study, school = study_of_song(song), school_of_song(song)
    return [
        finding
        for module, subject, key in asked(study.sheet, school)
        for finding in count(module, subject, study, school, key)
    ]


def known_findings(song: Song) -> tuple[list[Finding], int]:
    """The findings known without counting, and how many questions are open still."""
    out: list[Finding] = []
    missing = 0
    for *_, key in asked(sheet_of(song), school_of_song(song)):
        found = known(key)
        if found is None:
            missing += 1
        else:
            out += found
    return out, missing


def with_states(song: Song, found: list[Finding]) -> list[dict[str, Any]]:
    """Findings as plain data with station and state: open, declined, and those that were applied
    or changed and have settled."""
    answers = {a.finding: a for a in song.answers.select_related("revision")}
    now = revisions.values_before(
        sheet_of(song), {path: None for f in found for path in f.proposal}
    )
    lineage = {r.number for r in revisions.log(song)}
    out = []
    for f in found:
        answer = answers.pop(f.id, None)
        declined = answer is not None and answer.state == Answer.State.DECLINED
        out.append(
            f.as_dict()
            | {
                "station": STATION_OF[f.module],
                "state": "declined" if declined else OPEN,
                "declined_because": answer.reason if declined and answer else "",
                "changes": label_of(f.proposal, {p: now[p] for p in f.proposal})
                if f.proposal
                else "",
            }
        )
    for answer in answers.values():
        if answer.state == Answer.State.DECLINED or answer.revision is None:
            continue
        if answer.revision.number not in lineage:
            continue
        module, _, rest = answer.finding.partition(".")
        quantity, _, subject = rest.partition(":")
        out.append(
            {
                "id": answer.finding,
                "module": module,
                "quantity": quantity,
                "subject": subject,
                "station": STATION_OF.get(module, ""),
                "state": answer.state,
                "reason": answer.text,
                "measured": {},
                "proposal": answer.revision.patch,
                "gain": answer.revision.measures,
                "confidence": 1.0,
                "doubtful": False,
                "row": "",
                "school": "",
                "mic": next(
                    (p.split(".")[1] for p in answer.revision.patch if p.startswith("mics.")), ""
                ),
                "bars": None,
                "revision": answer.revision.number,
                "changes": answer.revision.label,
            }
        )
    return out


def find_by_id(song: Song, finding_id: str) -> Finding:
    """One finding as it stands now; raises `ArkundError` where it is settled or unknown."""
    name = finding_id.partition(".")[0]
    study, school = study_of_song(song), school_of_song(song)
    for module, subject, key in asked(study.sheet, school):
        if module.name == name:
            for finding in count(module, subject, study, school, key):
                if finding.id == finding_id:
                    return finding
    raise ArkundError("That finding is settled: an earlier change answered it.")


def apply(song: Song, base: int, finding: Finding) -> Revision:
    """Keep a finding's proposal as a revision with its reason and figures, and note the answer."""
    if not finding.proposal:
        raise ArkundError(
            "There is nothing in the sheet to change for this finding; it is a fact to know."
        )
    with transaction.atomic():
        made = revisions.keep(
            song.pk,
            base,
            finding.proposal,
            reason=finding.reason,
            station=STATION_OF[finding.module],
            finding=finding.id,
            measures={k: [c.now, c.then] for k, c in finding.gain.items()},
        )
        _note(song, finding, Answer.State.APPLIED, revision=made)
    return made


def note_changed(song: Song, finding_id: str, revision: Revision) -> None:
    """A finding answered with values of the engineer's own."""
    Answer.objects.update_or_create(
        song=song,
        finding=finding_id,
        defaults={
            "state": Answer.State.CHANGED,
            "revision": revision,
            "reason": "",
            "text": f"{revision.label}: set by ear instead of as proposed.",
        },
    )


def decline(song: Song, finding: Finding, reason: str) -> None:
    """Turn a finding down with a word why."""
    if not reason.strip():
        raise ArkundError("Say in a word why it is turned down; the log will remember it.")
    _note(song, finding, Answer.State.DECLINED, reason=reason.strip()[:500])


def reopen(song: Song, finding_id: str) -> None:
    """Take an answer back: the finding stands open again."""
    song.answers.filter(finding=finding_id).delete()


def declined_ids(song: Song) -> set[str]:
    return set(song.answers.filter(state=Answer.State.DECLINED).values_list("finding", flat=True))


def _note(
    song: Song, finding: Finding, state: str, *, reason: str = "", revision: Revision | None = None
) -> None:
    Answer.objects.update_or_create(
        song=song,
        finding=finding.id,
        defaults={"state": state, "text": finding.reason, "reason": reason, "revision": revision},
    )


def listed(song: Song, station: str = "") -> dict[str, Any]:
    """What the command line prints."""
    rows = with_states(song, all_findings(song))
    return {"findings": [r for r in rows if not station or r["station"] == station]}


def quiet_mics(sheet: Sheet, rows: list[dict[str, Any]], station: str) -> Iterator[str]:
    """Mics on which a station finds nothing."""
    busy = {r["mic"] for r in rows if r["station"] == station and r["state"] == OPEN}
    return (m for m in sheet.mics if m not in busy)
