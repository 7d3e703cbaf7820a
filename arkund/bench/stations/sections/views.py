"""Sections: how they compare."""

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET

from arkund.bench.requests import asked_sheet, song_named
from arkund.songs import sections
from arkund.songs.scheduling import SCHEDULE


@require_GET
def side_by_side(request: HttpRequest, slug: str) -> JsonResponse:
    """Each section's figures as it sounds now."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    return JsonResponse({"sections": sections.side_by_side(sheet)})
