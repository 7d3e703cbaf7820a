"""The songs page: the desk, and what is done with whole songs on it."""

import tempfile
from pathlib import Path

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.desk import desk as desk_shown
from arkund.bench.requests import asked_number, song_named
from arkund.bench.views.songs import staging
from arkund.core.errors import ArkundError
from arkund.songs import archives, desk, jobs, locks, storage
from arkund.songs.demo import DEMO_SLUG
from arkund.songs.models import Song


@require_GET
def index(request: HttpRequest) -> HttpResponse:
    """The desk; a folder that is dropped here is brought in here."""
    asked = request.GET
    page = asked_number(request, "page", 1, 1, 10_000)
    shown = desk_shown(asked.get("by", "heard")[:10], page, asked.get("named", "").strip()[:60])
    return render(request, "bench/songs.html", shown | staging())


@require_POST
def demo(request: HttpRequest) -> HttpResponse:
    """Have the demo song made, or open it where it is there."""
    if Song.objects.on_desk().filter(slug=DEMO_SLUG).exists():
        return redirect("song", slug=DEMO_SLUG)
    if jobs.waiting("demo") is None:
        jobs.enqueue("demo", None, {})
    return redirect("songs")


@require_POST
def rename(request: HttpRequest, slug: str) -> HttpResponse:
    """Call a song otherwise."""
    desk.rename(song_named(slug), request.POST.get("name", ""))
    return redirect("songs")


@require_POST
def duplicate(request: HttpRequest, slug: str) -> HttpResponse:
    """A copy of the song with its present settings."""
    desk.duplicate(song_named(slug))
    return redirect("songs")


@require_POST
def remove(request: HttpRequest, slug: str) -> HttpResponse:
    """Put a song into the bin."""
    desk.remove(song_named(slug))
    return redirect("songs")


@require_POST
def bring_back(request: HttpRequest, slug: str) -> HttpResponse:
    """Take a song out of the bin."""
    desk.bring_back(get_object_or_404(Song.objects.in_bin(), slug=slug))
    return redirect("songs")


@require_POST
def delete(request: HttpRequest, slug: str) -> HttpResponse:
    """Delete a song that is in the bin, for good."""
    desk.delete(get_object_or_404(Song.objects.in_bin(), slug=slug))
    return redirect("songs")


@require_GET
def back_up(request: HttpRequest, slug: str) -> HttpResponseBase:
    """Everything of a song as one file; its sounds too unless ``settings`` alone are asked for."""
    song = song_named(slug)
    with locks.song_lock(song.slug), tempfile.TemporaryDirectory(dir=storage.data_folder()) as kept:
        path = Path(kept) / archives.file_name(song)
        archives.back_up(song, path, audio="settings" not in request.GET)
        # Unix keeps an open file readable after its name is gone.
        return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


@require_POST
def restore(request: HttpRequest) -> HttpResponse:
    """A song from its backup."""
    sent = request.FILES.get("backup")
    if sent is None or not sent.size:
        raise ArkundError("Choose a backup first: a zip that Arkund has written.")
    with tempfile.TemporaryDirectory(dir=storage.data_folder()) as kept:
        # Only to be named in messages.
        name = "".join(c for c in Path(str(sent.name)).name if c.isprintable())[-80:].strip(".")
        path = Path(kept) / (name or "backup.zip")
        with path.open("wb") as out:
            for block in sent.chunks():
                out.write(block)
        song = archives.restore(path)
    return redirect("song", slug=song.slug)
