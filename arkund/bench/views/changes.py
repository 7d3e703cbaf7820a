"""Keeping changes, undoing, redoing, taking back."""

from typing import Any

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import base_of, body, song_named
from arkund.core.errors import ArkundError
from arkund.songs import findings, revisions, takes, turns
from arkund.songs.models import Revision


@require_POST
def keep(request: HttpRequest, slug: str) -> JsonResponse:
    """Keep ``patch`` made from revision ``base``; 409 with what changed where that is not current.

    ``finding`` names the finding that the patch answers otherwise than proposed.
    """
    song, data = song_named(slug), body(request)
    patch, base = data.get("patch"), data.get("base")
    if not isinstance(patch, dict) or not patch or not isinstance(base, int):
        raise ArkundError("A change needs what it changes and the revision it starts from.")
    finding = str(data.get("finding", ""))[:120]
    turns.after_sound()
    made = revisions.keep(
        song.pk, base, patch, reason=str(data.get("reason", ""))[:1000],
        station=str(data.get("station", ""))[:20], finding=finding,
    )  # fmt: skip
    if finding:
        findings.note_changed(song, finding, made)
    return answer(made)


@require_POST
def comp(request: HttpRequest, slug: str) -> JsonResponse:
    """Choose takes by ``path``, one take for each section; joins are placed where they hide best."""
    song, data = song_named(slug), body(request)
    path, base = data.get("path"), data.get("base")
    if not isinstance(path, list) or not isinstance(base, int):
        raise ArkundError("A choice of takes needs one take for each section.")
    return answer(takes.choose(song, base, path))


@require_POST
def offset(request: HttpRequest, slug: str) -> JsonResponse:
    """Shift ``take`` by ``ms``, or line all takes up on bar 1."""
    song, data = song_named(slug), body(request)
    base, take, ms = base_of(data), data.get("take"), data.get("ms")
    if take is None:
        return answer(takes.line_up(song, base))
    if not isinstance(take, int) or not isinstance(ms, (int, float)):
        raise ArkundError("How many milliseconds before the song the files begin is a number, such "
                          "as 250.")  # fmt: skip
    return answer(takes.shift(song, base, take, float(ms)))


@require_POST
def undo(request: HttpRequest, slug: str) -> JsonResponse:
    return answer(revisions.undo(song_named(slug).pk))


@require_POST
def redo(request: HttpRequest, slug: str) -> JsonResponse:
    return answer(revisions.redo(song_named(slug).pk))


@require_POST
def take_back(request: HttpRequest, slug: str) -> JsonResponse:
    """Take one revision back; 409 with the later changes it would touch, unless told all the same."""
    song, data = song_named(slug), body(request)
    number = data.get("revision")
    if not isinstance(number, int):
        raise ArkundError("Which revision is to be taken back?")
    same = bool(data.get("all_the_same"))
    return answer(revisions.take_back(song.pk, number, all_the_same=same))


def answer(revision: Revision) -> JsonResponse:
    sheet: dict[str, Any] = revision.sheet.model_dump(mode="json")
    for take in sheet["takes"]:
        take.pop("sources")
    return JsonResponse({"revision": revision.number, "label": revision.label, "sheet": sheet})
