"""Log: every revision, and the way back."""

from typing import Any

from arkund.bench import history
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.core.advise.opposing import opposing
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.songs.wording import path_words

LINES = 200
"""So many lines are shown unless all are asked for."""


def _context(asked: Asked) -> dict[str, Any]:
    """The latest lines, or all; of every channel and station, or of one."""
    of, by = asked.named("of"), asked.named("by")
    every = history.lines(asked.song)
    lines = [
        line
        for line in every
        if (not of or history.touches(line["revision"], of))
        and (not by or line["revision"].station == by)
    ]
    shown = lines if asked.named("all") else lines[:LINES]
    return {
        "lines": shown,
        "matching": len(lines),
        "left": len(lines) - len(shown),
        "total": len(every),
        "of": of,
        "by": by,
        "channels": _channels(asked.sheet),
        "kept_at": sorted({line["revision"].station for line in every} - {""}),
        "opposing": opposing(asked.sheet),
        "todos": asked.song.todos.all(),
        "snapshots": asked.song.snapshots.select_related("revision"),
    }


def _channels(sheet: Sheet) -> list[tuple[str, str]]:
    paths = [f"mics.{name}" for name in mic_order(sheet)]
    for table in ("layers", "groups", "buses"):
        paths += [f"{table}.{name}" for name in getattr(sheet, table)]
    paths.append(DRUM_BUS)
    return [(path, path_words(f"{path}.mute", sheet)[0]) for path in paths]


STATION = Station(
    room="log",
    slug="log",
    title="Log",
    context=_context,
    has_script=False,
    has_findings=False,
    shots=(Shot("log", "mic=snare_top", after_pass=True),),
)
