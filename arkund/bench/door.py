"""The passphrase at the door, where Arkund listens beyond this machine."""

import time
from collections import deque
from collections.abc import Callable
from functools import lru_cache

from django.conf import settings
from django.contrib.auth.hashers import check_password, make_password
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect, JsonResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.crypto import salted_hmac
from django.utils.http import url_has_allowed_host_and_scheme

TRIES = 5
WITHIN_S = 60.0

_failed: deque[float] = deque(maxlen=TRIES)


class DoorMiddleware:
    """Lets in whoever has said the passphrase; everybody where there is none."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self._get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        if not settings.PASSPHRASE or _is_in(request) or request.path == reverse("door"):
            return self._get_response(request)
        if request.method == "GET" and "text/html" in request.headers.get("Accept", ""):
            return HttpResponseRedirect(f"{reverse('door')}?next={request.path}")
        return JsonResponse({"error": "Say the passphrase first: reload the page."}, status=401)


def door(request: HttpRequest) -> HttpResponse:
    """Ask for the passphrase; five wrong ones close the door for a minute."""
    onward = request.GET.get("next", "/")
    if not url_has_allowed_host_and_scheme(onward, {request.get_host()}):
        onward = "/"
    if not settings.PASSPHRASE or _is_in(request):
        return HttpResponseRedirect(onward)
    if request.method != "POST":
        return render(request, "bench/door.html", {"problem": ""})
    now = time.monotonic()
    if len(_failed) == TRIES and now - _failed[0] < WITHIN_S:
        wait = round(WITHIN_S - (now - _failed[0]))
        problem = f"{TRIES} wrong passphrases. Try again in {wait} s."
        return render(request, "bench/door.html", {"problem": problem}, status=429)
    if not check_password(request.POST.get("passphrase", "")[:200], _hashed(settings.PASSPHRASE)):
        _failed.append(now)
        problem = "That is not the passphrase. The terminal that started Arkund shows it."
        return render(request, "bench/door.html", {"problem": problem}, status=403)
    request.session.cycle_key()
    request.session["door"] = _token()
    return HttpResponseRedirect(onward)


@lru_cache(maxsize=2)
def _hashed(passphrase: str) -> str:
    return make_password(passphrase)


def _token() -> str:
    """What a session bears: worth nothing once the passphrase is another."""
    return salted_hmac("arkund.door", settings.PASSPHRASE).hexdigest()


def _is_in(request: HttpRequest) -> bool:
    return request.session.get("door") == _token()
