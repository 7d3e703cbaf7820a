"""Names for revisions, the way back to one, and why a change was made."""

from typing import Annotated, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Line, Number, Prose, body, song_named
from arkund.bench.views.changes import answer
from arkund.songs import revisions, snapshots


class Named(Asked):
    """A snapshot by its name."""

    refusal: ClassVar[str] = "Give the snapshot a name."
    name: Line


class Called(Asked):
    """A revision by its number or its snapshot's name."""

    refusal: ClassVar[str] = "Say which revision is meant."
    called: Annotated[Line, Field(min_length=1)]


class Explained(Asked):
    """A revision and why it was made."""

    refusal: ClassVar[str] = "Say why, in up to 500 characters."
    number: Number
    why: Prose


@require_POST
def name(request: HttpRequest, slug: str) -> JsonResponse:
    """Give the present revision a name."""
    made = snapshots.name_present(song_named(slug), body(request, Named).name)
    return JsonResponse({"name": made.name})


@require_POST
def forget(request: HttpRequest, slug: str) -> JsonResponse:
    """Remove a name."""
    snapshots.remove(song_named(slug), body(request, Named).name)
    return JsonResponse({})


@require_POST
def go_back(request: HttpRequest, slug: str) -> JsonResponse:
    """Make the sheet of a revision the present one again."""
    return answer(snapshots.go_back(song_named(slug), body(request, Called).called))


@require_POST
def explain(request: HttpRequest, slug: str) -> JsonResponse:
    """Say why a change was made."""
    song, asked = song_named(slug), body(request, Explained)
    made = revisions.explain(song, asked.number, asked.why)
    return JsonResponse({"number": made.number, "reason": made.reason})
