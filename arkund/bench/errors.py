"""Errors as sentences: JSON for scripts, a page for people."""

import logging
import secrets
from collections.abc import Callable

from django.core.exceptions import BadRequest, RequestDataTooBig, SuspiciousOperation
from django.db import DatabaseError
from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.http.multipartparser import MultiPartParserError
from django.shortcuts import render

from arkund.core.errors import ArkundError
from arkund.songs.disk import disk_words
from arkund.songs.revisions import Conflict, Overlap

logger = logging.getLogger("arkund.errors")

UNREADABLE = "The request could not be read; reload the page and try again."


class PlainErrorsMiddleware:
    """Turns whatever a view raises into an answer with a sentence. What was not foreseen bears a
    number, under which the server's output says more."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        return self._get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        if isinstance(error, Http404):
            return None
        if isinstance(error, ArkundError):
            return _foreseen(request, error)
        if isinstance(error, RequestDataTooBig):
            return answer_with(request, "The request is too large; 4 MB are enough for any.", 413)
        if isinstance(error, (SuspiciousOperation, BadRequest, MultiPartParserError)):
            return answer_with(request, UNREADABLE, 400)
        if isinstance(error, (OSError, DatabaseError)) and (words := disk_words(error)):
            logger.warning("%s: %s", request.path, error)
            return answer_with(request, words, 507)
        return _unforeseen(request)


def answer_with(request: HttpRequest, text: str, status: int, **more: object) -> HttpResponse:
    """A sentence: as a page for people, as JSON with ``more`` for scripts."""
    if request.method == "GET" and "text/html" in request.headers.get("Accept", ""):
        return render(request, "bench/message.html", {"text": text}, status=status)
    return JsonResponse({"error": text, **more}, status=status)


def _foreseen(request: HttpRequest, error: ArkundError) -> HttpResponse:
    if isinstance(error, Conflict):
        changed = [r.label for r in error.changed_since]
        return answer_with(request, str(error), 409, changed=changed)
    if isinstance(error, Overlap):
        return answer_with(request, str(error), 409, later=[r.label for r in error.later])
    return answer_with(request, str(error), 400)


def _unforeseen(request: HttpRequest) -> HttpResponse:
    number = secrets.token_hex(3)
    logger.exception("error %s: %s %s", number, request.method, request.path)
    return answer_with(
        request,
        "Something went wrong that is not your doing. Reload the page; the server's output says "
        f"what it was, under number {number}.",
        500,
    )


def csrf_failure(request: HttpRequest, reason: str = "") -> HttpResponse:
    text = "The page was open for too long or came from elsewhere. Reload it and try again."
    return JsonResponse({"error": text}, status=403)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    text = "There is nothing here. The song may have been renamed or removed."
    return answer_with(request, text, 404)


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    return answer_with(request, UNREADABLE, 400)


def server_error(request: HttpRequest) -> HttpResponse:
    """What fails outside of any view."""
    return _unforeseen(request)
