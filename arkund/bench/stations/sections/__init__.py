"""Sections: where they begin, what differs in them, and how they compare."""

from typing import Any

from django.urls import path

from arkund.bench.in_hand import scenes_context
from arkund.bench.stations.sections import views
from arkund.bench.stations.station import Asked, Key, Shot, Station
from arkund.songs import sections


def _context(asked: Asked) -> dict[str, Any]:
    return {
        "found": sections.described(asked.sheet)["found"],
        "offer": sections.patch_of(sections.found(asked.sheet)),
        "rows": sections.differences(asked.sheet),
        "scenes": scenes_context(asked.sheet),
    }


STATION = Station(
    room="sections",
    slug="sections",
    title="Sections",
    number=9,
    context=_context,
    picture=lambda asked: sections.described(asked.sheet),
    keys=(Key("T", "accept", "use the sections that were found"),),
    addresses=(
        path("<slug:slug>/side-by-side/", views.side_by_side, name="side-by-side"),
        path("<slug:slug>/in-the-song/", views.in_the_song, name="in-the-song"),
    ),
    shots=(Shot("sections", "mic=snare_top", after_pass=True),),
)
