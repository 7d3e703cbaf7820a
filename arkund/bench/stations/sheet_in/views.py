"""A sheet that is brought in from a file, and what is taken over of it."""

import secrets
from pathlib import Path

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import number_in, song_named
from arkund.core.errors import ArkundError
from arkund.core.sheet.sheet import dump
from arkund.songs import locks, sheet_in, storage


def kept(token: str) -> tuple[Path, str] | None:
    """The sheet file that was brought under a token and what it is called; None where there is none."""
    folder = storage.staging_folder(token)
    found = folder / "sheet.json"
    if not token or not found.is_file():
        return None
    return found, (folder / "name").read_text()


@require_GET
def save(request: HttpRequest, slug: str) -> HttpResponse:
    """All settings of a song, as a file."""
    song = song_named(slug)
    assert song.current is not None
    answer = HttpResponse(dump(song.current.sheet), content_type="application/json")
    name = f"{song.slug}_revision_{song.current.number}_sheet.json"
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer


@require_POST
def bring(request: HttpRequest, slug: str) -> HttpResponse:
    """Keep a sheet file, and list the settings that differ in it."""
    song, sent = song_named(slug), request.FILES.get("sheet")
    if sent is None or not sent.size:
        raise ArkundError(
            "Choose a sheet first: a JSON file that “arkund export … json” has written."
        )
    if sent.size > sheet_in.LARGEST_SHEET:
        raise ArkundError("The file is too large for a sheet.")
    token = secrets.token_urlsafe(18)
    folder = storage.staging_folder(token)
    folder.mkdir(parents=True, exist_ok=True)
    name = "".join(c for c in Path(str(sent.name)).name if c.isprintable())[-60:] or "the file"
    with (folder / "sheet.json").open("wb") as out:
        for block in sent.chunks():
            out.write(block)
    (folder / "name").write_text(name)
    # Read once here: what is no sheet is refused before the page is another.
    sheet_in.offers(song, sheet_in.read(folder / "sheet.json", name), name)
    page = reverse("station", kwargs={"slug": slug, "station": "settings-from-file"})
    return redirect(f"{page}?token={token}")


@require_POST
def take(request: HttpRequest, slug: str) -> HttpResponse:
    """Take over what was chosen, as one revision."""
    song = song_named(slug)
    found = kept(request.POST.get("token", "")[:60])
    if found is None:
        raise ArkundError("That file is no longer here; choose it again.")
    path, name = found
    base = number_in(request.POST.get("base", ""))
    with locks.song_lock(song.slug):
        sheet_in.take_over(
            song, sheet_in.read(path, name), name, request.POST.getlist("chosen")[:2000], base
        )
    return redirect("station", slug=slug, station="log")
