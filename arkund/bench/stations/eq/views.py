"""Shape: what a chain would be on another drum, and chains of one's own."""

from typing import Annotated, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from arkund.bench.requests import Asked, Change, Line, asked_mic, asked_sheet, body, song_named
from arkund.bench.stations.eq.net import described as described_net
from arkund.bench.views.changes import answer
from arkund.songs import chains, masking
from arkund.songs.scheduling import SCHEDULE


@require_GET
def fitted(request: HttpRequest, slug: str) -> JsonResponse:
    """The patch and its rows in words; nothing is stored."""
    song = song_named(slug)
    asked = (request.GET.get("from", ""), request.GET.get("to", ""))
    return JsonResponse(chains.fitted(song, *asked))


@require_GET
def masked(request: HttpRequest, slug: str) -> JsonResponse:
    """How a drum's mics share its spectrum, what lies over it, and the hand-over that is offered."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    return JsonResponse(masking.described(sheet, request.GET.get("piece", "")))


@require_GET
def net(request: HttpRequest, slug: str) -> JsonResponse:
    """All EQs on a mic's way to the mix as one curve, and what the kit's boosts spend."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    return JsonResponse(described_net(sheet, asked_mic(request, sheet)))


Name = Annotated[Line, Field(min_length=1, max_length=chains.LONGEST_NAME)]


class Saved(Asked):
    """A mic whose chain is kept under a name."""

    refusal: ClassVar[str] = f"Give the chain a name of up to {chains.LONGEST_NAME} characters."
    mic: Line
    name: Name


@require_POST
def save(request: HttpRequest, slug: str) -> JsonResponse:
    """Keep a mic's chain as one's own."""
    song, asked = song_named(slug), body(request, Saved)
    return JsonResponse({"name": chains.save(song, asked.mic, asked.name).name})


class Used(Change):
    """The mic to which an own chain is added."""

    refusal: ClassVar[str] = "Name the chain, and the mic that it is added to."
    mic: Line
    name: Name


@require_POST
def use(request: HttpRequest, slug: str) -> JsonResponse:
    """Add an own chain behind a mic's, bypassed."""
    song, asked = song_named(slug), body(request, Used)
    return answer(chains.use(song, asked.base, asked.mic, asked.name))
