"""Ladders: a few values of one control equally loud, and the one that was chosen; and a compressor's steps."""

from typing import Annotated, Any, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from arkund.bench.requests import Change, Line, Number, asked_sheet, asked_span, body, song_named
from arkund.bench.views.changes import answer
from arkund.songs import ladders, stages
from arkund.songs.scheduling import SCHEDULE

LONGEST_S = 200.0


@require_GET
def shown(request: HttpRequest, slug: str) -> JsonResponse:
    """The rungs of ``path`` as ``node`` sounds over a span: patch, words, and the gain that makes all equally
    loud."""
    SCHEDULE.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    start, stop = asked_span(request, sheet, LONGEST_S)
    path, node = (request.GET.get(name, "")[:200] for name in ("path", "node"))
    return JsonResponse(ladders.shown(sheet, path, start, stop, node))


@require_GET
def steps(request: HttpRequest, slug: str) -> JsonResponse:
    """What each control of the compressor at ``path`` does over a span, and ways to set it."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    start, stop = asked_span(request, sheet, LONGEST_S)
    return JsonResponse(
        {"steps": stages.steps(sheet, request.GET.get("path", "")[:200], start, stop)}
    )


class Chosen(Change):
    """A rung's patch, all rungs' words (``over``), which was chosen in each of the ``rounds``, and whether the
    values were hidden."""

    refusal: ClassVar[str] = "A choice names the value and what it was chosen over."
    patch: Annotated[dict[str, Any], Field(min_length=1, max_length=20)]
    over: Annotated[list[Annotated[Line, Field(max_length=60)]], Field(max_length=ladders.MOST)]
    rounds: Annotated[list[Number], Field(min_length=1, max_length=200)]
    blind: bool = False
    station: Annotated[Line, Field(max_length=20)] = ""


@require_POST
def keep(request: HttpRequest, slug: str) -> JsonResponse:
    """Keep what was chosen, with what it was chosen over as the reason."""
    song, asked = song_named(slug), body(request, Chosen)
    choice = ladders.Choice(asked.patch, asked.over, asked.rounds, asked.blind)
    return answer(ladders.keep_choice(song, asked.base, choice, asked.station))
