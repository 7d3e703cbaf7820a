"""The stations' pages and pictures, each as its record says (`bench/stations`)."""

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET

from arkund.bench import history
from arkund.bench.frame import frame
from arkund.bench.requests import asked_mic, asked_sheet, song_named
from arkund.bench.stations.registry import STATIONS
from arkund.bench.stations.station import Asked, Station
from arkund.core.errors import UnreadableSheet
from arkund.songs.scheduling import SCHEDULE


def _named(slug: str) -> Station:
    if slug not in STATIONS:
        raise Http404
    return STATIONS[slug]


@require_GET
@ensure_csrf_cookie
def page(request: HttpRequest, slug: str, station: str) -> HttpResponse:
    """One station of a song."""
    here, song = _named(station), song_named(slug)
    try:
        sheet = asked_sheet(request, song)
    except UnreadableSheet as error:
        # Whatever happened to a sheet, the way back stays open.
        lines = history.lines(song)
        return render(request, "bench/way-back.html", {"song": song, "text": error, "lines": lines})
    context = frame(request, song, sheet, here)
    asked = Asked(request, song, sheet, context["mic"])
    rulers = here.rulers(asked) if here.rulers else ()
    context["rulers"] = [ruler.with_value(sheet) for ruler in rulers]
    if here.context:
        context |= here.context(asked)
    return render(request, here.template, context)


@require_GET
def picture(request: HttpRequest, slug: str, station: str) -> JsonResponse:
    """What the station's picture and rulers show, of a revision with a try on top."""
    here = _named(station)
    if here.picture is None:
        raise Http404
    SCHEDULE.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    return JsonResponse(here.picture(Asked(request, song, sheet, asked_mic(request, sheet))))
