"""Sections: how they compare."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from arkund.bench.requests import asked_sheet, song_named
from arkund.songs import beside, sections
from arkund.songs.scheduling import SCHEDULE


@require_GET
def side_by_side(request: HttpRequest, slug: str) -> JsonResponse:
    """Each section's figures as it sounds now."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    return JsonResponse({"sections": sections.side_by_side(sheet)})


@require_GET
def in_the_song(request: HttpRequest, slug: str) -> HttpResponse:
    """The drums against bed and reference."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    return render(request, "sections/in_the_song.html", {"found": beside.described(sheet)})
