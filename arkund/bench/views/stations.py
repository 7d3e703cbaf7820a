"""The stations' pages and pictures."""

from typing import Any

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET

from arkund.bench import history, rulers
from arkund.bench.frame import STATION_NAMES, frame
from arkund.bench.pictures import align, bus, clean, dynamics, edit, eq, level, load_in, takes
from arkund.bench.requests import (
    asked_bars,
    asked_mic,
    asked_number,
    asked_revision,
    asked_sheet,
    song_named,
)
from arkund.bench.views.findings import running_pass
from arkund.core.errors import UnreadableSheet
from arkund.core.mix.sheet import Sheet
from arkund.core.timing.meant import DIVISIONS
from arkund.songs import facts, hits, turns
from arkund.songs.models import Job, Song
from arkund.songs.rendering import grid_of

_PICTURES = {
    "edit": edit.picture,
    "align": align.picture,
    "level": level.picture,
    "clean": clean.picture,
    "eq": eq.picture,
    "dynamics": dynamics.picture,
    "bus": bus.picture,
    "takes": takes.picture,
}


@require_GET
@ensure_csrf_cookie
def page(request: HttpRequest, slug: str, station: str) -> HttpResponse:
    """One station of a song."""
    if station not in STATION_NAMES:
        raise Http404
    song = song_named(slug)
    try:
        sheet = asked_sheet(request, song)
    except UnreadableSheet as error:
        # Whatever happened to a sheet, the way back stays open.
        lines = history.lines(song)
        return render(request, "bench/way-back.html", {"song": song, "text": error, "lines": lines})
    context = frame(request, song, sheet, station)
    context["rulers"] = [
        r.with_value(sheet) for r in _rulers(station, context["mic"], request, sheet)
    ]
    context |= _extra(station, song, sheet, context["mic"], request)
    return render(request, f"bench/{station}.html", context)


def _rule(request: HttpRequest, sheet: Sheet) -> int:
    """The timing rule in the query, or the last."""
    last = len(sheet.timing.rules) - 1
    return asked_number(request, "rule", last, 0, max(last, 0))


def _timing(song: Song, sheet: Sheet, request: HttpRequest) -> dict[str, Any]:
    """What the Edit page shows of rules, pieces and kinds of stroke."""
    rules = [r.model_dump() for r in sheet.timing.rules]
    return {
        "rules": rules, "rule": _rule(request, sheet), "divisions": list(DIVISIONS),
        "pieces": hits.known_pieces(sheet), "kinds": hits.KINDS,
        "now": rules[_rule(request, sheet)] if rules else None,
    }  # fmt: skip


def _bus(request: HttpRequest, sheet: Sheet) -> str:
    """The parallel bus in the query, or the first."""
    name = request.GET.get("bus", "")
    return name if name in sheet.parallel else next(iter(sheet.parallel), "")


def _band(request: HttpRequest) -> int:
    return asked_number(request, "band", 2, 1, 4) - 1


def _rulers(station: str, mic: str, request: HttpRequest, sheet: Sheet) -> list[rulers.Ruler]:
    if station == "eq":
        return rulers.eq_rulers(mic, _band(request))
    if station == "bus":
        name = _bus(request, sheet)
        return rulers.bus_rulers(name, []) if name else []
    if station == "edit":
        return rulers.timing_rulers(_rule(request, sheet)) if sheet.timing.rules else []
    by_station = {
        "align": rulers.align_rulers, "level": rulers.level_rulers, "clean": rulers.clean_rulers,
        "dynamics": rulers.dynamics_rulers,
    }  # fmt: skip
    return by_station[station](mic) if station in by_station else []


def _extra(
    station: str, song: Song, sheet: Sheet, mic: str, request: HttpRequest
) -> dict[str, Any]:
    if station == "edit":
        return _timing(song, sheet, request)
    if station == "load-in":
        return load_in.context(sheet, mic, facts.mic_files(sheet))
    if station == "eq":
        return {"band": _band(request), "bands": enumerate(sheet.mics[mic].eq.bands)}
    if station == "bus":
        name = _bus(request, sheet)
        sends = sheet.parallel[name].sends if name else {}
        shown = [m for m in sheet.mics if m in sends]
        return {
            "bus": name,
            "buses": list(sheet.parallel),
            "sends": [r.with_value(sheet) for r in rulers.send_rulers(name, shown)],
        }
    if station == "print":
        running = song.jobs.filter(kind="print").exclude(
            state__in=[Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
        )
        return {"prints": song.prints.select_related("revision"), "running": running.first(),
                "files": [*sheet.mics, *(f"{b} return" for b in sheet.parallel), "mix"]}  # fmt: skip
    if station == "log":
        return {"lines": history.lines(song)}
    if station == "first-pass":
        return history.first_pass_report(song) | {"running": running_pass(song)}
    if station == "compare":
        return history.comparison(song, *_compared(request, song))
    return {}


def _compared(request: HttpRequest, song: Song) -> tuple[int, int]:
    """The two revisions to compare: the first and the present one by default."""
    assert song.current is not None
    a, b = (asked_revision(request, song, name) for name in ("a", "b"))
    return a or 1, b or song.current.number


@require_GET
def picture(request: HttpRequest, slug: str, station: str) -> JsonResponse:
    """What the station's picture and rulers show, of a revision with a try on top."""
    if station not in _PICTURES:
        raise Http404
    turns.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    mic = asked_mic(request, sheet)
    bars = asked_bars(request, sheet, grid_of(sheet))
    if station == "bus":
        return JsonResponse(bus.picture(song, sheet, mic, bars, _bus(request, sheet)))
    return JsonResponse(_PICTURES[station](song, sheet, mic, bars))
