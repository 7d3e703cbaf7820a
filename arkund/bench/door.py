"""The passphrase at the door, where Arkund listens beyond this machine."""

import math
import threading
import time
from collections import OrderedDict, deque
from collections.abc import Callable, Mapping
from functools import lru_cache
from http.cookies import CookieError, SimpleCookie

from django.conf import settings
from django.contrib.auth.hashers import check_password, make_password
from django.contrib.sessions.backends.signed_cookies import SessionStore
from django.http import HttpRequest, HttpResponse, HttpResponseRedirect, JsonResponse
from django.shortcuts import render
from django.urls import reverse
from django.utils.crypto import salted_hmac
from django.utils.http import url_has_allowed_host_and_scheme

TRIES, WITHIN_S = 5, 60.0
"""Wrong passphrases from one address, after which it waits."""

FROM_ALL, PACE_S = 40, 2.0
"""Guesses from all addresses within `WITHIN_S`, after which there is one every `PACE_S`."""

MOST_ADDRESSES = 4096


class Guesses:
    """Guesses of the last `WITHIN_S`, by address. One is counted before it is checked, so that many at
    once are not all checked. Safe among threads."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._own: OrderedDict[str, deque[float]] = OrderedDict()
        self._all: deque[float] = deque(maxlen=FROM_ALL)
        self._next = 0.0

    def wait_s(self, address: str) -> float:
        """Count a guess, and 0; or how long its address has to wait before one is taken."""
        now = time.monotonic()
        with self._lock:
            own = self._own.setdefault(address, deque(maxlen=TRIES))
            self._own.move_to_end(address)
            while len(self._own) > MOST_ADDRESSES:
                self._own.popitem(last=False)
            if len(own) == TRIES and now - own[0] < WITHIN_S:
                return WITHIN_S - (now - own[0])
            is_busy = len(self._all) == FROM_ALL and now - self._all[0] < WITHIN_S
            if is_busy and now < self._next:
                return self._next - now
            self._next = now + PACE_S
            own.append(now)
            self._all.append(now)
            return 0.0

    def forgive(self, address: str) -> None:
        """The last guess was right."""
        with self._lock:
            self._own.pop(address, None)


guesses = Guesses()


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
    """Ask for the passphrase; five wrong ones from an address close the door to it for a minute."""
    onward = request.GET.get("next", "/")
    if not url_has_allowed_host_and_scheme(onward, {request.get_host()}):
        onward = "/"
    if not settings.PASSPHRASE or _is_in(request):
        return HttpResponseRedirect(onward)
    if request.method != "POST":
        return render(request, "bench/door.html", {"problem": ""})
    address = request.META.get("REMOTE_ADDR", "")
    wait_s = guesses.wait_s(address)
    if wait_s:
        problem = f"Too many wrong passphrases. Try again in {math.ceil(wait_s)} s."
        return render(request, "bench/door.html", {"problem": problem}, status=429)
    if not check_password(request.POST.get("passphrase", "")[:200], _hashed(settings.PASSPHRASE)):
        problem = "That is not the passphrase. The terminal that started Arkund shows it."
        return render(request, "bench/door.html", {"problem": problem}, status=403)
    guesses.forgive(address)
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


def is_known(headers: Mapping[str, str]) -> bool:
    """Whether a request with these headers (names in capitals with underscores) bears the passphrase;
    everyone does where there is none."""
    if not settings.PASSPHRASE:
        return True
    try:
        cookie = SimpleCookie(headers.get("COOKIE", "")).get(settings.SESSION_COOKIE_NAME)
    except CookieError:
        return False
    return cookie is not None and SessionStore(cookie.value).get("door") == _token()
