"""Edit: hits, and the grid that they are put on."""

from typing import Any

from django.urls import path

from arkund.bench import rulers
from arkund.bench.requests import asked_number
from arkund.bench.stations.edit import picture, views
from arkund.bench.stations.station import Asked, Key, Shot, Station
from arkund.core.exchange.tables import KINDS
from arkund.core.timing.meant import DIVISIONS
from arkund.songs import hits


def _rule(asked: Asked) -> int:
    """The timing rule in the query, or the last."""
    last = len(asked.sheet.timing.rules) - 1
    return asked_number(asked.request, "rule", last, 0, max(last, 0))


def _context(asked: Asked) -> dict[str, Any]:
    rules = [r.model_dump() for r in asked.sheet.timing.rules]
    return {
        "rules": rules,
        "rule": _rule(asked),
        "divisions": list(DIVISIONS),
        "pieces": hits.known_pieces(asked.sheet),
        "kinds": KINDS,
        "now": rules[_rule(asked)] if rules else None,
    }


STATION = Station(
    room="edit",
    slug="edit",
    title="Edit",
    number=2,
    context=_context,
    rulers=lambda asked: rulers.timing_rulers(_rule(asked)) if asked.sheet.timing.rules else [],
    picture=lambda asked: picture.picture(asked.song, asked.sheet, asked.mic, asked.bars),
    keys=(
        Key("E", "nextEdit", "next edit"),
        Key("U", "nextUnexplained", "next unexplained sound"),
        Key("Q", "nextQuestion", "next moment of a drum without hits"),
        Key("K", "sayHit", "it is a hit"),
        Key("L", "sayBleed", "it is bleed"),
        Key("N", "nextHit", "this drum's next hit"),
        Key("B", "previousHit", "this drum's previous hit"),
    ),
    addresses=(
        path("<slug:slug>/copy/", views.copy, name="copy"),
        path("<slug:slug>/hits/", views.correct, name="hits"),
        path("<slug:slug>/move/", views.move, name="move"),
        path("<slug:slug>/edit/from-file/", views.from_file, name="hits-from-file"),
        path("<slug:slug>/edit/notes-in-file/", views.notes_in_file, name="notes-in-file"),
        path("<slug:slug>/edits.csv", views.edit_list, name="edit-list"),
    ),
    shots=(Shot("edit-timing", "mic=snare_top&bars=7-10"),),
)
