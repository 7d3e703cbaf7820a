"""The first pass on a stored song: each finding its own revision, the mix measured before and after."""

from collections.abc import Callable
from dataclasses import asdict
from typing import Any

from arkund.core.advise.by_stage import matters_most
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Finding
from arkund.core.advise.findings import STATION_OF
from arkund.core.advise.first_pass import Step, left_alone, measure_mix, mics_of, steps
from arkund.core.advise.goal import GOALS
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError, SheetError
from arkund.core.render.faults import refuse_broken
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch
from arkund.songs import cards, findings, memory, schools
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import exact_engine
from arkund.songs.timing import retimed, sheet_of

Progress = Callable[[float, str], None]


class PassCancelled(ArkundError):
    """Stopped by the engineer; what was applied until then stays."""


def run(
    song: Song,
    *,
    without: frozenset[str] = frozenset(),
    progress: Progress = lambda share, what: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> dict[str, Any]:
    """Apply all findings of the song's school in order, but those whose ids are in ``without``.

    Returns what was applied, what was left to the engineer, the mics left alone, and the mix's figures
    before and after. Every step is a revision of its own; the report is kept with the last one.
    """
    school = findings.school_of_song(song)
    declined = findings.declined_ids(song) | without
    memory.hold()
    progress(0.01, "measuring the mix as it stands")
    at = _Standing(song)
    before = _measured(at.study())
    applied: list[dict[str, Any]] = []
    asked: list[dict[str, Any]] = []
    touched: set[str] = set()
    last: Revision | None = None
    for step in steps(at.study, school, lambda f: f.id in declined):
        if cancelled():
            raise PassCancelled(
                f"Stopped after {len(applied)} changes, which stay; undo or take back any of them."
            )
        if not isinstance(step, Step):
            asked.append({"id": step.id, "reason": step.reason, "doubtful": step.is_doubtful})
            continue
        finding = step.finding
        progress(0.06 + 0.86 * step.share, _named(finding))
        song.refresh_from_db()
        assert song.current is not None
        try:
            last = findings.apply(song, song.current.number, finding)
        except SheetError as error:
            asked.append({"id": finding.id, "reason": str(error), "doubtful": True})
            continue
        touched |= mics_of(finding)
        applied.append(_entry(finding, last))
    progress(0.94, "measuring the mix as it is now")
    study = at.study()
    after = _measured(study)
    card = cards.rows_of(study, school)
    report = {
        "school": school.name,
        "applied": applied,
        "asked": asked,
        "left_alone": left_alone(study, touched),
        "before": before,
        "after": after,
        "card": card,
        "hits": cards.hits_drawn(study),
    }
    if last is not None:
        mix = {"before": before, "after": after}
        Revision.objects.filter(pk=last.pk).update(measures=last.measures | {"mix": mix})
    progress(1.0, f"{len(applied)} changes made")
    return report


def _station(finding: Finding) -> str:
    return STATION_OF.get(finding.module, "bus")


def _named(finding: Finding) -> str:
    """A finding in a line of progress: its station and how its reason begins."""
    return f"{_station(finding)}: {finding.reason.split(':')[0][:80]}"


def _entry(finding: Finding, made: Revision) -> dict[str, Any]:
    """What the report says of a finding that was applied."""
    return {
        "id": finding.id,
        "revision": made.number,
        "reason": finding.reason,
        "station": _station(finding),
        "gain": {k: [c.now, c.then] for k, c in finding.gain.items()},
    }


def preview(
    song: Song, school_name: str = "", *, progress: Progress = lambda share, what: None
) -> dict[str, Any]:
    """What the pass would do: its changes by station, and the card that is expected. Nothing is
    stored."""
    school = schools.named(school_name) if school_name else findings.school_of_song(song)
    declined = findings.declined_ids(song)
    studies = [_Standing(song).study()]
    _measured(studies[0])
    stations: dict[str, list[dict[str, Any]]] = {}
    left_out = []
    for step in steps(lambda: studies[-1], school, lambda f: f.id in declined):
        if not isinstance(step, Step):
            if step.proposal and not step.is_left_to_the_ear and step.id not in declined:
                left_out.append({"id": step.id, "reason": step.reason})
            continue
        finding, study = step.finding, studies[-1]
        progress(0.9 * step.share, _named(finding))
        try:
            patch = completed(study.sheet, finding.proposal)
            then = retimed(study.sheet, apply_patch(study.sheet, patch))
        except SheetError:
            continue
        studies[:] = [Study(then, study.engine, study.library, study.takes)]
        stations.setdefault(_station(finding), []).append(
            {"id": finding.id, "reason": finding.reason}
        )
    progress(0.92, "measuring what each kind of stage gives")
    study = studies[-1]
    most = matters_most(study, school, Excerpt(study, GOALS[school.goal]))
    report = {
        "school": school.name,
        "revision": song.current.number if song.current else 0,
        "changes": sum(map(len, stations.values())),
        "stations": [{"station": name, "changes": found} for name, found in stations.items()],
        "left_out": left_out,
        "matters_most": [asdict(m) for m in most],
        "card": cards.rows_of(study, school),
        "hits": cards.hits_drawn(study),
    }
    progress(1.0, "nothing was changed")
    return report


def _measured(study: Study) -> dict[str, float]:
    """The mix's figures. Raises `BrokenSound` where a channel's sound is not a number: no figure and
    no proposal would mean anything."""
    found = measure_mix(study)
    refuse_broken(study.graph, study.engine.cache, study.rate)
    return found


class _Standing:
    """The song as it stands, studied anew only where it has changed, so that what was measured for
    one module serves the next."""

    def __init__(self, song: Song) -> None:
        self._song = song
        self._known: tuple[Revision | None, Study] | None = None

    def study(self) -> Study:
        """The study of the current revision."""
        self._song.refresh_from_db()
        now = self._song.current
        if self._known is None or self._known[0] != now:
            sheet = sheet_of(self._song)
            # Exact, since whole songs are measured: early chains would begin anew every few seconds.
            self._known = (now, findings.study_of_song(self._song, sheet, exact_engine(sheet)))
        return self._known[1]
