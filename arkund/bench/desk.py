"""The desk: every song with its kit, its sections, what was done at each station and what is open."""

from collections import Counter, defaultdict
from collections.abc import Iterable, Mapping
from typing import Any

from django.core.paginator import Paginator
from django.db.models import Count, QuerySet
from django.db.models.functions import Coalesce

from arkund.bench import plan
from arkund.bench.stations.registry import STATIONS
from arkund.core.errors import SheetError
from arkund.core.kit.roles import BESIDE
from arkund.core.sheet.sheet import Sheet
from arkund.songs import findings, first_visit, jobs, listening, problems, soundness
from arkund.songs.demo import DEMO_NAME, DEMO_SLUG
from arkund.songs.models import Job, Print, Revision, Song, Todo
from arkund.songs.rendering import grid_of

STRIP = 100.0
"""A song's length in its strip of sections: places in it are percentages."""

SHADES = 4


A_PAGE = 25
"""Songs shown at once."""

SORTED = {"heard": "last heard", "name": "name", "open": "what is open"}


def desk(by: str = "heard", page: int = 1, named: str = "") -> dict[str, Any]:
    """What the songs page shows: songs sorted ``by`` a key of `SORTED`, of all those whose name holds ``named``."""
    by = by if by in SORTED else "heard"
    songs = Song.objects.on_desk().exclude(current=None)
    to_do, is_empty = _counts(Todo, done=None), not songs.exists()
    wanted = _sorted(songs.filter(name__icontains=named) if named else songs, by, to_do)
    pages = Paginator(wanted, A_PAGE)
    shown = pages.get_page(page)
    changes, printed, passed = _changes(shown), _counts(Print, song__in=shown), _passed(shown)
    entries = [
        _entry(song, changes[song.pk], to_do[song.pk], printed[song.pk])
        | {"passed": passed.get(song.pk)}
        for song in shown
    ]
    if entries and by == "heard" and shown.number == 1 and not named:
        _point_on(entries[0])
    return {
        "songs": entries,
        "shown": shown,
        "is_empty": is_empty,
        "by": by,
        "named": named,
        "orders": SORTED,
        "bin": Song.objects.in_bin(),
        "view_box": plan.VIEW_BOX,
        "making": jobs.waiting("demo"),
        "demo": "" if songs.filter(slug=DEMO_SLUG).exists() else DEMO_NAME,
        "way": _way(),
        "problems": problems.PROBLEMS[: problems.ON_THE_DESK],
        "clock": listening.now(),
    }


def _sorted(
    songs: QuerySet[Song], by: str, to_do: Mapping[int, int]
) -> QuerySet[Song] | list[Song]:
    """Songs in the order of a key of `SORTED`; read a page at a time where the database can sort them."""
    if by == "name":
        return songs.order_by("name", "pk")
    latest = songs.annotate(touched=Coalesce("heard", "created")).order_by("-touched", "-pk")
    return latest if by == "heard" else sorted(latest, key=lambda song: -to_do[song.pk])


def _way() -> first_visit.Way | None:
    """The first visit: as far as it has come, or its steps before there is a demo song."""
    song = Song.objects.on_desk().filter(slug=DEMO_SLUG).exclude(current=None).first()
    return first_visit.way_of(song) if song else None


def _passed(songs: Iterable[Song]) -> Mapping[int, str]:
    """What the last first pass of each song came to, in words."""
    rows = (
        Job.objects.filter(song__in=list(songs), kind="first-pass", state=Job.State.DONE)
        .order_by("pk")
        .values_list("song", "result__card")
    )
    return {song: words for song, card in rows if (words := _outcome(card))}


def _outcome(card: Any) -> str:
    """A punch card in a line; empty for one that cannot be read."""
    try:
        asked = [row for row in card if row["wish"]]
        short = sum(not row["met"] for row in asked)
    except (TypeError, KeyError):
        return ""
    if not asked:
        return ""
    return (
        f"{len(asked) - short} of {len(asked)} goals met"
        if short
        else f"all {len(asked)} goals met"
    )


def _point_on(entry: dict[str, Any]) -> None:
    """To the song heard last: how much is open at each station, and where to go on."""
    song: Song = entry["song"]
    entry["is_first"] = True
    if "trouble" in entry:
        return
    known, _ = findings.known_findings(song)
    counts = Counter(
        row["station"] for row in findings.with_states(song, known) if row["state"] == findings.OPEN
    )
    for station in entry["stations"]:
        station["open"] = counts[station["slug"]] + (
            counts["dynamics"] if station["slug"] == "eq" else 0
        )
    entry["go_on"] = next((s for s in entry["stations"] if s["open"]), None)


def _counts(model: type[Todo] | type[Print], **which: Any) -> Mapping[int, int]:
    """How many rows of a table each song has."""
    rows = model.objects.filter(**which).order_by().values("song").annotate(count=Count("pk"))
    return defaultdict(int, {row["song"]: row["count"] for row in rows})


def _changes(songs: Iterable[Song]) -> Mapping[int, Mapping[str, int]]:
    """How many changes were kept at each station, by song."""
    kept = Revision.objects.filter(song__in=list(songs)).order_by()
    rows = kept.values("song", "station").annotate(count=Count("pk"))
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
        "length": f"{sheet.frames // sheet.rate // 60}:{sheet.frames // sheet.rate % 60:02d}",
        "lost": len(soundness.known(sheet)),
        "kit": plan.small(sorted(piece for piece in pieces if piece)),
        "sections": _sections(sheet),
        "stations": [
            {"title": s.title, "slug": s.slug, "count": changes.get(s.slug, 0), "open": 0}
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
