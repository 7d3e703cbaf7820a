"""Clean: regions by hand."""

from typing import ClassVar, Literal

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import Change, Line, Number, body, song_named
from arkund.bench.views.changes import answer
from arkund.songs import by_hand


class Edited(Change):
    """What a hand does to the regions of a mic; places in samples."""

    refusal: ClassVar[str] = "Say which mic, what is done to which region, and where."
    mic: Line
    what: by_hand.What
    region: Line = ""
    at: Number = 0
    stop: Number = 0
    edge: Literal["in", "out"] = "in"


@require_POST
def edit(request: HttpRequest, slug: str) -> JsonResponse:
    """Derive regions, or move, split, join, draw or take out one; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Edited)
    return answer(by_hand.edit(song, asked.mic, asked.what, asked.region, at=asked.at,
                               stop=asked.stop, edge=asked.edge, base=asked.base))  # fmt: skip
