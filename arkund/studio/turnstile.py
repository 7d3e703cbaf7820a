"""How many requests of a kind are worked on at once.

Pages and pictures keep a core busy for as long as they take, so more of them at once than
`AT_ONCE` only take each other's time; the others wait their turn outside. Changes and sound have
turnstiles of their own and never wait behind a queue of pictures.
"""

import threading
from collections import deque
from collections.abc import Callable, Iterable
from typing import Any

AT_ONCE = 4
THREADS = 64
"""Enough for all who wait outside."""

App = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class _Queue:
    """Lets `AT_ONCE` in and the others after them, in the order in which they came. (A semaphore
    lets who comes late pass who waits.)"""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._free = AT_ONCE
        self._waiting: deque[threading.Event] = deque()

    def __enter__(self) -> None:
        with self._lock:
            if self._free:
                self._free -= 1
                return
            turn = threading.Event()
            self._waiting.append(turn)
        turn.wait()

    def __exit__(self, *_: object) -> None:
        with self._lock:
            if self._waiting:
                self._waiting.popleft().set()
            else:
                self._free += 1


class Turnstile:
    """A WSGI application that lets so many requests of each kind at once into another, a change when
    ``give_way`` returns: what is heard of it comes first, and reading a request takes time too."""

    def __init__(self, inner: App, give_way: Callable[[], object] = lambda: None) -> None:
        self._inner, self._give_way = inner, give_way
        self._kinds = {kind: _Queue() for kind in ("change", "sound", "read")}

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        kind = kind_of(environ)
        if kind == "change":
            self._give_way()
        with self._kinds[kind]:
            return self._inner(environ, start)


def kind_of(environ: dict[str, Any]) -> str:
    """``change``, ``sound`` or ``read``."""
    if environ.get("REQUEST_METHOD") not in ("GET", "HEAD"):
        return "change"
    return "sound" if environ.get("PATH_INFO", "").endswith("/pcm/") else "read"
