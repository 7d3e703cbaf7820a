"""Replace: laying something under a drum, and patching single strokes."""

from typing import ClassVar, Literal

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import Change, Line, body, song_named
from arkund.bench.views.changes import answer
from arkund.core.errors import ArkundError
from arkund.songs import replacing
from arkund.songs.timing import sheet_of


class Added(Change):
    """A layer or a sub layer for the piece that a mic is close to."""

    refusal: ClassVar[str] = (
        "Say which mic's drum gets a layer, and whether it is a layer or a sub."
    )
    mic: Line
    what: Literal["layer", "sub"]


@require_POST
def add(request: HttpRequest, slug: str) -> JsonResponse:
    """Lay the drum's own strokes or a tone under it; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Added)
    sheet = sheet_of(song)
    mic = sheet.mics.get(asked.mic)
    if mic is None or mic.name.piece is None:
        raise ArkundError("Layers follow a close mic; choose kick, snare, a tom, hat or ride.")
    make = replacing.layer if asked.what == "layer" else replacing.sub
    return answer(make(song, mic.name.piece, base=asked.base))


class Patched(Change):
    """A bad stroke, and the one that stands in for it; the best match where none is said."""

    refusal: ClassVar[str] = "Say which stroke is to be patched."
    hit: Line
    by: Line = ""


@require_POST
def patch(request: HttpRequest, slug: str) -> JsonResponse:
    """Replace one stroke in all mics; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Patched)
    return answer(replacing.patch_stroke(song, asked.hit, asked.by, base=asked.base))
