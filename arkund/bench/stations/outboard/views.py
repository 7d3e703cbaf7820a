"""Sending a channel to a box, and bringing it back."""

import secrets
import tempfile
from pathlib import Path
from typing import ClassVar

from django.http import FileResponse, HttpRequest, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404
from django.views.decorators.http import require_POST

from arkund.bench.requests import Change, Line, body, number_in, song_named
from arkund.core.errors import ArkundError
from arkund.songs import jobs, outboard, storage

KIND = "outboard"


class Through(Change):
    """A node, a box that ships with the application, and whether the return plays instead of its source."""

    refusal: ClassVar[str] = "Choose what is sent, and through which box."
    node: Line
    box: Line
    instead: bool = True


@require_POST
def send(request: HttpRequest, slug: str) -> HttpResponseBase:
    """A node of the whole song with its pings, as a file to play through a box."""
    song = song_named(slug)
    node = request.POST.get("node", "")[:40]
    with tempfile.TemporaryDirectory(dir=storage.data_folder()) as kept:
        path = Path(kept) / f"{song.slug}_{node or 'node'}_to_outboard.wav"
        outboard.send(song, node, path)
        # Unix keeps an open file readable after its name is gone.
        return FileResponse(path.open("rb"), as_attachment=True, filename=path.name)


@require_POST
def box(request: HttpRequest, slug: str) -> JsonResponse:
    """The round trip through a simulated box, as a job."""
    song, asked = song_named(slug), body(request, Through)
    if asked.box not in outboard.BOXES:
        raise ArkundError(f"There is no box “{asked.box}”. There are: {', '.join(outboard.BOXES)}.")
    params = {"node": asked.node, "box": asked.box, "instead": asked.instead}
    return JsonResponse({"job": jobs.enqueue(KIND, song, params).pk})


@require_POST
def bring(request: HttpRequest, slug: str) -> JsonResponse:
    """A return as it was recorded: kept, then laid in by a job."""
    song = song_named(slug)
    number, base = (number_in(request.POST.get(name, "")) for name in ("sending", "base"))
    sending = get_object_or_404(song.sendings, pk=number or 0)
    sent = request.FILES.get("file")
    if sent is None or not sent.size or base is None:
        raise ArkundError("Choose the file that was recorded back from the box.")
    token = secrets.token_urlsafe(18)
    folder = storage.staging_folder(token)
    folder.mkdir(parents=True, exist_ok=True)
    with (folder / "return").open("wb") as out:
        for block in sent.chunks():
            out.write(block)
    name = "".join(c for c in Path(str(sent.name)).name if c.isprintable())[-80:]
    params = {
        "sending": sending.pk,
        "token": token,
        "name": name or "return.wav",
        "base": base,
        "instead": request.POST.get("instead") == "1",
    }
    return JsonResponse({"job": jobs.enqueue(KIND, song, params).pk})
