"""Errors as sentences: JSON for scripts, a page for people."""

from collections.abc import Callable

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from arkund.core.errors import ArkundError
from arkund.songs.revisions import Conflict, Overlap


class PlainErrorsMiddleware:
    """Turns an `ArkundError` raised by a view into an answer with its sentence."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self._get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if not isinstance(error, ArkundError):
            return None
        status = 409 if isinstance(error, (Conflict, Overlap)) else 400
        if _wants_page(request):
            return render(request, "bench/message.html", {"text": str(error)}, status=status)
        body: dict[str, object] = {"error": str(error)}
        if isinstance(error, Conflict):
            body["changed"] = [r.label for r in error.changed_since]
        if isinstance(error, Overlap):
            body["later"] = [r.label for r in error.later]
        return JsonResponse(body, status=status)


def _wants_page(request: HttpRequest) -> bool:
    return request.method == "GET" and "text/html" in request.headers.get("Accept", "")


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    return JsonResponse(
        {
            "error": "The page was open for too long or came from elsewhere. Reload it and try again."
        },
        status=403,
    )


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    text = "There is nothing here. The song may have been renamed or removed."
    if not _wants_page(request):
        return JsonResponse({"error": text}, status=404)
    return render(request, "bench/message.html", {"text": text}, status=404)


def server_error(request: HttpRequest) -> HttpResponse:
    return HttpResponse(
        "Something went wrong that is not your doing. Reload the page; the server's output says "
        "what it was.",
        status=500,
        content_type="text/plain; charset=utf-8",
    )
