"""Starting prints and fetching them."""

from typing import ClassVar, Literal

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, render
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.report import page_of
from arkund.bench.requests import Asked, Line, body, song_named
from arkund.core.errors import ArkundError
from arkund.core.render.wish import PATTERN, USUAL, Wish
from arkund.songs import jobs, prints, storage
from arkund.songs.models import Print


class Printed(Asked):
    """What is to be printed, and as what."""

    refusal: ClassVar[str] = "Choose what to print: mics, groups, returns, layers, the mix."
    stems: tuple[Line, ...] = USUAL
    format: Literal["wav24", "wav32f", "flac"] = "wav24"
    tap: Line = "shaped"
    left_out: tuple[Line, ...] = ()
    pattern: Line = PATTERN

    def wish(self) -> Wish:
        """The wish; raises `ArkundError` where it cannot be."""
        return Wish(self.stems, self.tap, left_out=self.left_out, pattern=self.pattern)


@require_POST
def forecast(request: HttpRequest, slug: str) -> HttpResponse:
    """What would be written: names, size, what is odd, or why it cannot be."""
    song, asked = song_named(slug), body(request, Printed)
    assert song.current is not None
    try:
        found = prints.forecast(song, song.current, asked.wish(), asked.format)
    except ArkundError as error:
        found = prints.Forecast([], refusal=str(error))
    return render(request, "printing/forecast.html", {"forecast": found})


@require_POST
def start(request: HttpRequest, slug: str) -> JsonResponse:
    """Queue a print of the current revision."""
    song, asked = song_named(slug), body(request, Printed)
    assert song.current is not None
    prints.stems_in(song, song.current, asked.wish())
    params = {"revision": song.current.number, **asked.model_dump(mode="json")}
    return JsonResponse({"job": jobs.enqueue("print", song, params).pk})


@require_GET
def report(request: HttpRequest, slug: str) -> HttpResponse:
    """The recall report as a page, or as a file of its own where ``file`` is asked for."""
    song, alone = song_named(slug), "file" in request.GET
    answer = HttpResponse(page_of(song, alone=alone))
    if alone:
        assert song.current is not None
        name = f"{song.slug}_revision_{song.current.number}_recall.html"
        answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


@require_GET
def download(request: HttpRequest, slug: str, number: int) -> HttpResponseBase:
    made = get_object_or_404(Print, pk=number, song__slug=slug)
    path = storage.prints_folder(slug) / made.file_name
    if not path.exists():
        raise ArkundError("This print is no longer on the disk; print it again.")
    return FileResponse(path.open("rb"), as_attachment=True, filename=made.file_name)
