"""The door of the web process: lets so many requests of each kind into the application at once."""

from collections.abc import Callable, Iterable
from typing import Any

from arkund.songs.scheduling import CHANGE_WAITS_S, Kind, Schedule

THREADS = 64
"""Enough for all who wait outside."""

App = Callable[[dict[str, Any], Callable[..., Any]], Iterable[bytes]]


class Turnstile:
    """A WSGI application in front of another. A change waits for its own first sound before it is read:
    what is heard of it comes first, and reading a request takes time too."""

    def __init__(self, inner: App, schedule: Schedule) -> None:
        self._inner, self._schedule = inner, schedule

    def __call__(self, environ: dict[str, Any], start: Callable[..., Any]) -> Iterable[bytes]:
        kind = kind_of(environ)
        if kind == "change":
            self._schedule.after_sound(CHANGE_WAITS_S)
        with self._schedule.admitted(kind):
            return self._inner(environ, start)


def kind_of(environ: dict[str, Any]) -> Kind:
    """The kind of a request."""
    if environ.get("REQUEST_METHOD") not in ("GET", "HEAD"):
        return "change"
    return "sound" if environ.get("PATH_INFO", "").endswith("/pcm/") else "read"
