"""What is still to do: noted, ticked."""

from typing import Annotated, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Line, Number, body, song_named
from arkund.songs import todos


class Noted(Asked):
    """Something to do, and where."""

    refusal: ClassVar[str] = "Say what is to be done, in 1 to 300 characters."
    text: Annotated[str, Field(max_length=300)]
    mic: Line = ""
    bar: Number | None = None


class Ticked(Asked):
    """A to-do, and whether it is done."""

    number: Number
    done: bool


@require_POST
def add(request: HttpRequest, slug: str) -> JsonResponse:
    """Note something to do."""
    song, asked = song_named(slug), body(request, Noted)
    made = todos.add(song, asked.text, asked.mic, asked.bar)
    return JsonResponse({"number": made.number, "open": len(todos.open_of(song))})


@require_POST
def tick(request: HttpRequest, slug: str) -> JsonResponse:
    """Tick one, or take the tick away."""
    song, asked = song_named(slug), body(request, Ticked)
    todos.tick(song, asked.number, done=asked.done)
    return JsonResponse({"open": len(todos.open_of(song))})
