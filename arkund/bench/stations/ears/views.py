"""Rounds of an ear drill."""

from typing import ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import Asked, Line, Number, body, song_named
from arkund.songs import drills


class Round(Asked):
    """A skill, and the mic and the samples of which it is asked."""

    refusal: ClassVar[str] = "Say which drill, and of which bars."
    skill: Line
    mic: Line = ""
    start: Number
    stop: Number


class Answered(Asked):
    """An answer: 0 is A, 1 is B."""

    refusal: ClassVar[str] = "Answer A or B."
    number: Number
    side: Number


@require_POST
def ask(request: HttpRequest, slug: str) -> JsonResponse:
    """The next round."""
    song, asked = song_named(slug), body(request, Round)
    made = drills.ask(song, asked.skill, asked.mic, asked.start, asked.stop)
    return JsonResponse(
        {"number": made.number, "asks": made.asks, "node": made.node, "sides": made.sides}
    )


@require_POST
def answer(request: HttpRequest, slug: str) -> JsonResponse:
    """Whether an answer was right, and how the skill stands."""
    song, asked = song_named(slug), body(request, Answered)
    return JsonResponse(drills.answer(song, asked.number, asked.side))
