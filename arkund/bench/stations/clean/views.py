"""Clean: regions by hand, and what a gate does to the whole kit."""

from typing import ClassVar, Literal

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import (
    Change,
    Line,
    Number,
    asked_mic,
    asked_sheet,
    asked_span,
    body,
    song_named,
)
from arkund.bench.views.changes import answer
from arkund.songs import by_hand, gates
from arkund.songs.scheduling import SCHEDULE

LONGEST_S = 200.0


class Edited(Change):
    """What a hand does to the regions of a mic; places in samples."""

    refusal: ClassVar[str] = "Say which mic, what is done to which region, and where."
    mic: Line
    what: by_hand.What
    region: Line = ""
    at: Number = 0
    stop: Number = 0
    edge: Literal["in", "out"] = "in"


@require_GET
def jump(request: HttpRequest, slug: str) -> JsonResponse:
    """By how many dB the kit's cymbals fall when the mic's gate shuts, within a span."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    span = asked_span(request, sheet, LONGEST_S)
    return JsonResponse({"db": gates.cymbals_jump(sheet, asked_mic(request, sheet), span)})


@require_POST
def edit(request: HttpRequest, slug: str) -> JsonResponse:
    """Derive regions, or move, split, join, draw or take out one; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Edited)
    return answer(
        by_hand.edit(
            song,
            asked.mic,
            asked.what,
            asked.region,
            at=asked.at,
            stop=asked.stop,
            edge=asked.edge,
            base=asked.base,
        )
    )
