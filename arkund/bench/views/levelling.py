"""Level: mics trimmed together, and the stage from the other seat."""

from typing import ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import Change, Line, Real, body, song_named
from arkund.bench.views.changes import answer
from arkund.songs import levelling


class Together(Change):
    """Mics, and by how many dB they are trimmed."""

    refusal: ClassVar[str] = "Say which mics are trimmed, and by how many dB."
    mics: tuple[Line, ...]
    by_db: Real


@require_POST
def together(request: HttpRequest, slug: str) -> JsonResponse:
    """Trim mics by the same dB; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Together)
    return answer(levelling.trim_together(song, asked.mics, asked.by_db, base=asked.base))


@require_POST
def mirror(request: HttpRequest, slug: str) -> JsonResponse:
    """Pan every mic to the other side; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Change)
    return answer(levelling.mirror(song, base=asked.base))
