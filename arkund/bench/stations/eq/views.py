"""Shape: what a chain would be on another drum."""

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET

from arkund.bench.requests import song_named
from arkund.songs import chains


@require_GET
def fitted(request: HttpRequest, slug: str) -> JsonResponse:
    """The patch and its rows in words; nothing is stored."""
    song = song_named(slug)
    asked = (request.GET.get("from", ""), request.GET.get("to", ""))
    return JsonResponse(chains.fitted(song, *asked))
