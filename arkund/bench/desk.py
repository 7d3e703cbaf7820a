"""The desk: every song with its kit, its sections, what was done at each station and what is to do."""

from collections import defaultdict
from collections.abc import Mapping
from typing import Any

from django.db.models import Count

from arkund.bench import plan
from arkund.bench.stations.registry import STATIONS
from arkund.core.errors import SheetError
from arkund.core.kit.roles import BESIDE
from arkund.core.sheet.sheet import Sheet
from arkund.songs import jobs, soundness
from arkund.songs.demo import DEMO_NAME, DEMO_SLUG
from arkund.songs.models import Print, Revision, Song, Todo
from arkund.songs.rendering import grid_of

STRIP = 300.0
"""Units that a song is long in its strip of sections."""

SHADES = 4


def desk() -> dict[str, Any]:
    """What the songs page shows."""
    songs = Song.objects.on_desk().exclude(current=None)
    changes, to_do, printed = _changes(), _counts(Todo, done=None), _counts(Print)
    return {
        "songs": [
            _entry(song, changes[song.pk], to_do[song.pk], printed[song.pk]) for song in songs
        ],
        "bin": Song.objects.in_bin(),
        "view_box": plan.VIEW_BOX,
        "strip": STRIP,
        "making": jobs.waiting("demo"),
        "demo": "" if songs.filter(slug=DEMO_SLUG).exists() else DEMO_NAME,
    }


def _counts(model: type[Todo] | type[Print], **which: Any) -> Mapping[int, int]:
    """How many rows of a table each song has."""
    rows = model.objects.filter(**which).order_by().values("song").annotate(count=Count("pk"))
    return defaultdict(int, {row["song"]: row["count"] for row in rows})


def _changes() -> Mapping[int, Mapping[str, int]]:
    """How many changes were kept at each station, by song."""
    rows = Revision.objects.order_by().values("song", "station").annotate(count=Count("pk"))
    out: dict[int, dict[str, int]] = defaultdict(lambda: defaultdict(int))
    for row in rows:
        out[row["song"]][row["station"]] += row["count"]
    return out


def _entry(song: Song, changes: Mapping[str, int], to_do: int, printed: int) -> dict[str, Any]:
    """A song; one that cannot be read says why and hides no other."""
    assert song.current is not None
    entry: dict[str, Any] = {"song": song, "to_do": to_do, "printed": printed}
    try:
        sheet = song.current.sheet
    except SheetError as error:
        return entry | {"trouble": str(error)}
    pieces = {m.name.piece for m in sheet.mics.values() if m.role not in BESIDE and not m.unused}
    return entry | {
        "sheet": sheet,
        "lost": len(soundness.known(sheet)),
        "kit": plan.small(sorted(piece for piece in pieces if piece)),
        "sections": _sections(sheet),
        "stations": [
            {"title": s.title, "slug": s.slug, "count": changes.get(s.slug, 0)}
            for s in STATIONS.values()
            if s.number is not None
        ],
    }


def _sections(sheet: Sheet) -> list[dict[str, Any]]:
    """The song's sections as stretches of a strip, those of one name in one shade."""
    grid, names = grid_of(sheet), list(dict.fromkeys(one.name for one in sheet.sections))
    out = []
    for one in sheet.sections:
        span = grid.frames_of_bars(one.start_bar, one.start_bar + one.bars - 1, sheet.rate)
        start, stop = (min(at, sheet.frames) / sheet.frames * STRIP for at in span)
        shade = names.index(one.name) % SHADES
        out.append({"name": one.name, "x": start, "width": max(stop - start, 0.0), "shade": shade})
    return out
