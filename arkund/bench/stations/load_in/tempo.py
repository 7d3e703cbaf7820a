"""The tempo map: from a MIDI file, as it was played, and out as a MIDI file."""

import tempfile
from pathlib import Path
from typing import ClassVar

from django.http import FileResponse, HttpRequest, HttpResponseBase, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field, FiniteFloat

from arkund.bench.requests import Asked, Number, body, sent_file, song_named
from arkund.bench.views.changes import answer
from arkund.core.hits.confidence import EXPORTED
from arkund.core.timing.tapped import tapped_bpm
from arkund.songs import exports, tempo

LARGEST_MIDI = 4_000_000


@require_POST
def follow(request: HttpRequest, slug: str) -> JsonResponse:
    """Let the tempo map follow the hits bar by bar."""
    return answer(tempo.drifting(song_named(slug)))


@require_POST
def click(request: HttpRequest, slug: str) -> JsonResponse:
    """Take the tempo map from the recorded click."""
    return answer(tempo.from_click(song_named(slug)))


class CountIn(Asked):
    """How many beats are counted in."""

    refusal: ClassVar[str] = "A count-in is a whole number of beats, such as 4."
    beats: Number


@require_POST
def count_in(request: HttpRequest, slug: str) -> JsonResponse:
    """Let the first hit count in for so many ``beats``."""
    return answer(tempo.count_in(song_named(slug), body(request, CountIn).beats))


class Tapped(Asked):
    """When the quarter notes were tapped."""

    refusal: ClassVar[str] = "Tap at least three quarter notes."
    times_ms: list[FiniteFloat] = Field(max_length=64)


@require_POST
def tapped(request: HttpRequest, slug: str) -> JsonResponse:
    """The tempo of taps, ``bpm`` null while there are too few; nothing is changed."""
    song_named(slug)
    bpm = tapped_bpm([t / 1000 for t in body(request, Tapped).times_ms])
    return JsonResponse({"bpm": None if bpm is None else round(bpm, 1)})


@require_POST
def upload(request: HttpRequest, slug: str) -> JsonResponse:
    """Take over the tempo map of an uploaded MIDI file."""
    song = song_named(slug)
    too_large = "That file is too large for a tempo map; a few kilobytes are usual."
    with sent_file(request, "midi", LARGEST_MIDI, "Choose a MIDI file first.", too_large) as path:
        return answer(tempo.from_midi(song, path))


@require_GET
def download(request: HttpRequest, slug: str) -> HttpResponseBase:
    """Hits as heard with the tempo map, as a MIDI file; with ``all`` the doubtful ones too."""
    song = song_named(slug)
    least = 0.0 if "all" in request.GET else EXPORTED
    with tempfile.TemporaryDirectory() as folder:
        path = exports.export(song, "midi", Path(folder) / f"{song.slug}.mid", least)[0]
        # Unix keeps an open file readable after its name is gone.
        return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)
