"""Starting prints and fetching them."""

from typing import ClassVar

from django.http import FileResponse, HttpRequest, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import Asked, Line, body, song_named
from arkund.core.errors import ArkundError
from arkund.core.render.printing import FORMATS, STEMS
from arkund.songs import jobs, storage
from arkund.songs.models import Print


class Printed(Asked):
    """What is to be printed, and as what."""

    refusal: ClassVar[str] = "Choose what to print: mics, groups, buses, the mix."
    stems: tuple[Line, ...] = STEMS
    format: Line = "wav24"
    through_bus: bool = False


@require_POST
def start(request: HttpRequest, slug: str) -> JsonResponse:
    """Queue a print of the current revision."""
    song, asked = song_named(slug), body(request, Printed)
    stems = [s for s in STEMS if s in asked.stems]
    if not stems:
        raise ArkundError(Printed.refusal)
    if asked.format not in FORMATS:
        raise ArkundError("Prints are 24-bit WAV, 32-bit float WAV or FLAC.")
    assert song.current is not None
    params = {
        "revision": song.current.number,
        "stems": stems,
        "format": asked.format,
        "through_bus": asked.through_bus,
    }
    return JsonResponse({"job": jobs.enqueue("print", song, params).pk})


@require_GET
def download(request: HttpRequest, slug: str, number: int) -> HttpResponseBase:
    made = get_object_or_404(Print, pk=number, song__slug=slug)
    path = storage.prints_folder(slug) / made.file_name
    if not path.exists():
        raise ArkundError("This print is no longer on the disk; print it again.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=made.file_name)
