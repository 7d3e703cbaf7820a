"""The first visit on the pages of the demo song."""

from typing import ClassVar, Literal

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import Asked, Line, body, song_named
from arkund.songs import first_visit
from arkund.songs.models import Song


class Stepped(Asked):
    """A step, and whether it was ``heard`` or is passed ``over``."""

    refusal: ClassVar[str] = "Say which step, and whether it was heard or is passed over."
    name: Line
    what: Literal["heard", "over"]


@require_GET
def shown(request: HttpRequest, slug: str) -> HttpResponse:
    """The step that is next, as it stands on top of the work."""
    return _page(request, song_named(slug))


@require_POST
def step(request: HttpRequest, slug: str) -> HttpResponse:
    """Note a step that was heard or is passed over; answers with the next."""
    song, asked = song_named(slug), body(request, Stepped)
    if asked.what == "heard":
        first_visit.heard(song, asked.name)
    else:
        first_visit.pass_over(song, asked.name)
    return _page(request, song)


def _page(request: HttpRequest, song: Song) -> HttpResponse:
    station = request.GET.get("station", "")[:40]
    context = {"way": first_visit.way_of(song), "song": song, "station": station}
    return render(request, "bench/first-visit.html", context)


@require_POST
def open_it(request: HttpRequest, slug: str) -> HttpResponse:
    """Begin, or go on: to the page of the next step."""
    song = song_named(slug)
    way = first_visit.way_of(song)
    if way is not None and way.next is None:
        first_visit.begin_again(song)
        way = first_visit.way_of(song)
    first_visit.open_way(song, is_open=True)
    if way is None or way.next is None:
        return redirect("song", slug=slug)
    at = way.next.step
    page = reverse("station", kwargs={"slug": slug, "station": at.station})
    return redirect(f"{page}?{at.query}" if at.query else page)


@require_POST
def leave(request: HttpRequest, slug: str) -> HttpResponse:
    """Leave the steps for now; the songs page goes on with them."""
    first_visit.open_way(song_named(slug), is_open=False)
    return HttpResponse(status=204)
