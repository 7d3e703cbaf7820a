"""What a station is: one record, from which rail, page, picture, keys, help and screenshots follow."""

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.http import HttpRequest
from django.urls import URLPattern

from arkund.bench.drawing import Bars
from arkund.bench.requests import asked_bars
from arkund.bench.rulers import Ruler
from arkund.core.sheet.sheet import Sheet
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of


@dataclass(frozen=True)
class Asked:
    """What a station's page or picture is asked for."""

    request: HttpRequest
    song: Song
    sheet: Sheet
    mic: str

    @property
    def bars(self) -> Bars:
        """First and last bar of the loop."""
        return asked_bars(self.request, self.sheet, grid_of(self.sheet))

    def named(self, name: str) -> str:
        """A value of the query, empty where it has none."""
        return self.request.GET.get(name, "")[:60]


@dataclass(frozen=True)
class Key:
    """A key of one station: what its script ``does`` then (a method of what `start` gives back), and the
    ``words`` of the help."""

    key: str
    does: str
    words: str


@dataclass(frozen=True)
class Shot:
    """A picture for the documents: its file's ``name``, the ``query`` of the page, and whether a first pass
    has been run before."""

    name: str
    query: str
    after_pass: bool = False


@dataclass(frozen=True)
class Station:
    """A station of the bench, or a page beside them.

    ``room`` is its folder, ``slug`` its place in addresses. One with a ``number`` stands in the rail; a page
    without one is marked there as the station ``within`` which it lies. ``context`` gives its template what
    the frame does not, ``rulers`` its controls, ``picture`` the data that its script draws. ``addresses``
    are what its page sends changes to.
    """

    room: str
    slug: str
    title: str
    number: int | None = None
    within: str = ""
    context: Callable[[Asked], Mapping[str, Any]] | None = None
    rulers: Callable[[Asked], Sequence[Ruler]] | None = None
    picture: Callable[[Asked], Mapping[str, Any]] | None = None
    keys: tuple[Key, ...] = ()
    addresses: tuple[URLPattern, ...] = ()
    has_script: bool = True
    has_findings: bool = True
    shots: tuple[Shot, ...] = ()

    @property
    def template(self) -> str:
        """Its page's template."""
        return f"{self.room}/page.html"

    @property
    def script(self) -> str:
        """Its script among the static files; empty where it has none."""
        return f"bench/stations/{self.room}/page.js" if self.has_script else ""
