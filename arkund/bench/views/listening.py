"""The listening clock."""

from typing import Annotated, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Line, body, song_named
from arkund.songs import listening


class Heard(Asked):
    """Seconds that were played just now, of a song where it was one."""

    refusal: ClassVar[str] = "Say how many seconds were heard, and of which song."
    seconds: Annotated[int, Field(ge=1, le=listening.MOST_AT_ONCE_S)]
    song: Line = ""


@require_POST
def listened(request: HttpRequest) -> JsonResponse:
    """Add to the clock; answers with how it stands, and whether a break is due."""
    asked = body(request, Heard)
    clock = listening.listened(song_named(asked.song) if asked.song else None, asked.seconds)
    return JsonResponse({"words": clock.words, "is_break_due": clock.is_break_due})
