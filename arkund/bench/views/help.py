"""Help: answers by problem, the words, the mixing styles, the cautions, where figures come from."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from arkund.bench.requests import song_named
from arkund.bench.stations.registry import STATIONS
from arkund.core.advise.school import ROWS, SCHOOLS
from arkund.songs import problems
from arkund.songs.models import Song
from arkund.songs.words import SOURCES, WORDS


@require_GET
def helped(request: HttpRequest) -> HttpResponse:
    """The help page; with ``?song=`` its answers carry that song's findings."""
    slug = request.GET.get("song", "")[:80]
    song = song_named(slug) if slug else None
    rows = [
        {
            "question": row.question,
            "answers": [row.answers[getattr(s, row.key)] for s in SCHOOLS.values()],
        }
        for row in ROWS
    ]
    context = {
        "song": song,
        "songs": Song.objects.on_desk().exclude(current=None),
        "answers": problems.answered(song),
        "stations": {s.slug: s.title for s in STATIONS.values()},
        "schools": [s.name for s in SCHOOLS.values()],
        "rows": rows,
        "words": WORDS,
        "sources": SOURCES,
    }
    return render(request, "bench/help.html", context)
