"""The findings column: what is known, answers to it, the school, the first pass."""

from collections import Counter
from typing import Annotated, Any, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Line, Number, Prose, body, song_named
from arkund.bench.views.changes import answer
from arkund.core.kit.roles import parse_mic_name
from arkund.songs import counting, findings, jobs, schools
from arkund.songs.models import Job, Song
from arkund.songs.scheduling import SCHEDULE
from arkund.songs.timing import sheet_of

UNDER_WAY = (Job.State.QUEUED, Job.State.RUNNING)


@require_GET
def listed(request: HttpRequest, slug: str) -> JsonResponse:
    """Findings of ``station`` as far as they are known, and open counts by station and piece.

    Never waits: what is not counted yet is counted in the background, ``counting`` says how much.
    """
    SCHEDULE.after_sound()
    song = song_named(slug)
    found, missing = findings.known_findings(song)
    if missing:
        counting.want(song.pk)
    rows = findings.with_states(song, found)
    station = request.GET.get("station", "")
    station = "edit" if station == "takes" else station
    stations = ("eq", "dynamics") if station in ("eq", "dynamics") else (station,)
    own = [r for r in rows if r["station"] in stations]
    open_rows = [r for r in rows if r["state"] == findings.OPEN]
    sheet = sheet_of(song)
    return JsonResponse(
        {
            "counting": missing,
            "counts": Counter(
                "eq" if r["station"] == "dynamics" else r["station"] for r in open_rows
            ),
            "pieces": Counter(_piece(r) for r in open_rows if _piece(r)),
            "findings": own,
            "quiet": list(findings.quiet_mics(sheet, own, station)),
        }
    )


def _piece(row: dict[str, Any]) -> str:
    return (parse_mic_name(row["mic"]).piece or "") if row["mic"] else ""


MOST_WAYS = 9


class Meant(Asked):
    """The finding that an answer is given to, with a word why."""

    refusal: ClassVar[str] = "Which finding is meant?"
    finding: Annotated[Line, Field(min_length=1, max_length=120)]
    reason: Prose = ""


class Applied(Meant):
    """A finding that is applied, on revision ``base``, as it proposes or by another of its ways."""

    refusal: ClassVar[str] = "An answer needs its finding and the revision it was given on."
    base: Number
    way: Annotated[int, Field(ge=0, le=MOST_WAYS)] = 0


@require_POST
def apply(request: HttpRequest, slug: str) -> JsonResponse:
    """Apply one finding by the way that was chosen; 409 where the song has moved on since."""
    song, asked = song_named(slug), body(request, Applied)
    finding = findings.find_by_id(song, asked.finding).by_way(asked.way)
    return answer(findings.apply(song, asked.base, finding))


@require_POST
def decline(request: HttpRequest, slug: str) -> JsonResponse:
    song, asked = song_named(slug), body(request, Meant)
    findings.decline(song, findings.find_by_id(song, asked.finding), asked.reason)
    return JsonResponse({"ok": True})


@require_POST
def reopen(request: HttpRequest, slug: str) -> JsonResponse:
    song, asked = song_named(slug), body(request, Meant)
    findings.reopen(song, asked.finding)
    return JsonResponse({"ok": True})


class Schooled(Asked):
    """One of: a school by ``name``; a ``row`` with its ``answer``; a name to ``save`` rows under."""

    refusal: ClassVar[str] = "A school is named in up to 40 letters."
    name: Annotated[Line, Field(max_length=40)] = ""
    row: Annotated[Line, Field(max_length=40)] | None = None
    answer: Annotated[Line, Field(max_length=40)] = ""
    save: Annotated[Line, Field(max_length=40, pattern=r"^[^\x00-\x1f\x7f]*$")] | None = None


@require_POST
def school(request: HttpRequest, slug: str) -> JsonResponse:
    """Choose a school by ``name``, answer one ``row``, or ``save`` the rows under a name."""
    song, asked = song_named(slug), body(request, Schooled)
    if asked.row is not None:
        made = schools.change_row(song, asked.row, asked.answer)
    elif asked.save is not None:
        made = schools.save_as(song, asked.save)
    else:
        made = schools.choose(song, asked.name)
    return JsonResponse({"school": made.model_dump()})


class Pass(Asked):
    """A first pass: a ``preview``, or the real one ``without`` some of its changes."""

    refusal: ClassVar[str] = "A first pass takes a list of the changes to leave out."
    preview: bool = False
    without: Annotated[
        tuple[Annotated[Line, Field(max_length=120)], ...], Field(max_length=500)
    ] = ()


PASS, PREVIEW = "first-pass", "first-pass-preview"


@require_POST
def first_pass(request: HttpRequest, slug: str) -> JsonResponse:
    """Start a first pass with the song's school, or a preview of one, unless one is under way. A preview
    gives way to the pass itself."""
    song, asked = song_named(slug), body(request, Pass)
    running = running_pass(song)
    if running is not None and running.kind == PREVIEW and not asked.preview:
        jobs.cancel(running)
        running = None
    if running is None:
        kind = PREVIEW if asked.preview else PASS
        running = jobs.enqueue(
            kind, song, {} if asked.preview else {"without": list(asked.without)}
        )
    return JsonResponse({"job": running.pk})


def running_pass(song: Song) -> Job | None:
    """A first pass or a preview that is under way."""
    under_way = song.jobs.filter(kind__in=(PASS, PREVIEW), state__in=UNDER_WAY)
    return under_way.exclude(kind=PREVIEW, cancel_asked=True).order_by("kind").first()


def last_preview(song: Song) -> dict[str, Any] | None:
    """What a first pass would do with the song as it is and its school, where that was asked."""
    job = song.jobs.filter(kind=PREVIEW, state=Job.State.DONE).order_by("-pk").first()
    if job is None or song.current is None:
        return None
    found: dict[str, Any] = job.result
    as_it_is = (found["revision"], found["school"]) == (
        song.current.number,
        song.school.get("name"),
    )
    return found if as_it_is else None


def last_pass(song: Song) -> Job | None:
    """The last first pass that came to its end."""
    return song.jobs.filter(kind=PASS, state=Job.State.DONE).order_by("-pk").first()
