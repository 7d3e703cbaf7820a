"""Keeping changes, undoing, redoing, taking back."""

from typing import Annotated, Any, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Change, Line, Number, Prose, Real, body, song_named
from arkund.core.errors import UnreadableSheet
from arkund.core.sheet.renaming import as_name
from arkund.core.sheet.typed import typed_value
from arkund.songs import findings, levelling, revisions, takes
from arkund.songs.models import Revision
from arkund.songs.timing import sheet_of


class Kept(Change):
    """A change to be kept; ``finding`` is the one that it answers otherwise than proposed."""

    refusal: ClassVar[str] = "A change needs what it changes and the revision it starts from."
    patch: Annotated[dict[str, Any], Field(min_length=1, max_length=2000)]
    reason: Prose = ""
    station: Annotated[Line, Field(max_length=20)] = ""
    finding: Annotated[Line, Field(max_length=120)] = ""


@require_POST
def keep(request: HttpRequest, slug: str) -> JsonResponse:
    """Keep ``patch`` made from revision ``base``; 409 with what changed where that is not current.

    ``finding`` names the finding that the patch answers otherwise than proposed.
    """
    song, asked = song_named(slug), body(request, Kept)
    patch = levelling.with_thresholds(sheet_of(song), asked.patch)
    made = revisions.keep(
        song.pk,
        asked.base,
        patch,
        reason=asked.reason,
        station=asked.station,
        finding=asked.finding,
    )
    if asked.finding:
        findings.note_changed(song, asked.finding, made)
    return answer(made)


class Renamed(Change):
    """A bus or group and what it shall be called."""

    refusal: ClassVar[str] = "Say what is to be renamed, and how."
    channel: Line
    name: Annotated[Line, Field(min_length=1, max_length=32)]


@require_POST
def rename(request: HttpRequest, slug: str) -> JsonResponse:
    """Call a bus or group otherwise; all that names it follows."""
    song, asked = song_named(slug), body(request, Renamed)
    made = revisions.rename(song.pk, asked.base, asked.channel, asked.name)
    return answer(made, called=as_name(asked.name))


@require_GET
def typed(request: HttpRequest, slug: str) -> JsonResponse:
    """What was typed at a ruler as a ``value`` in its ``unit``."""
    sheet = sheet_of(song_named(slug))
    text, unit = (request.GET.get(name, "")[:80] for name in ("text", "unit"))
    return JsonResponse({"value": typed_value(text, unit, bpm=sheet.tempo.bpm, rate=sheet.rate)})


class Comp(Change):
    """A take for each section."""

    refusal: ClassVar[str] = "A choice of takes needs one take for each section."
    path: Annotated[list[Number], Field(max_length=500)]


@require_POST
def comp(request: HttpRequest, slug: str) -> JsonResponse:
    """Choose takes by ``path``, one take for each section; joins are placed where they hide best."""
    song, asked = song_named(slug), body(request, Comp)
    return answer(takes.choose(song, asked.base, asked.path))


class Offset(Change):
    """How far a take's files begin before the song; without a take, all are lined up."""

    refusal: ClassVar[str] = (
        "Type how many milliseconds before the song the files begin, a number such as 250."
    )
    take: Number | None = None
    ms: Real = 0.0


@require_POST
def offset(request: HttpRequest, slug: str) -> JsonResponse:
    """Shift ``take`` by ``ms``, or line all takes up on bar 1."""
    song, asked = song_named(slug), body(request, Offset)
    if asked.take is None:
        return answer(takes.line_up(song, asked.base))
    return answer(takes.shift(song, asked.base, asked.take, asked.ms))


@require_POST
def undo(request: HttpRequest, slug: str) -> JsonResponse:
    song = song_named(slug)
    undone = song.current
    made = revisions.undo(song.pk)
    return answer(made, said=f"Undone: {revisions.way_back_words(undone)}")


@require_POST
def redo(request: HttpRequest, slug: str) -> JsonResponse:
    made = revisions.redo(song_named(slug).pk)
    return answer(made, said=f"Redone: {made.label}")


class TakenBack(Asked):
    """The revision to take back, in spite of later changes if told all the same."""

    refusal: ClassVar[str] = "Which revision is to be taken back?"
    revision: Number
    all_the_same: bool = False


@require_POST
def take_back(request: HttpRequest, slug: str) -> JsonResponse:
    """Take one revision back; 409 with the later changes it would touch, unless told all the same."""
    song, asked = song_named(slug), body(request, TakenBack)
    made = revisions.take_back(song.pk, asked.revision, all_the_same=asked.all_the_same)
    return answer(made)


def answer(revision: Revision, **more: str) -> JsonResponse:
    try:
        sheet: dict[str, Any] = revision.sheet.model_dump(mode="json")
    except UnreadableSheet:
        return JsonResponse({"revision": revision.number, "label": revision.label, **more})
    for take in sheet["takes"]:
        take.pop("sources")
    said = {"revision": revision.number, "label": revision.label, "sheet": sheet, **more}
    return JsonResponse(said)
