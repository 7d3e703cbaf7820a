"""The stations' pages and pictures."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render
from django.views.decorators.csrf import ensure_csrf_cookie
from django.views.decorators.http import require_GET

from arkund.bench import history, rulers
from arkund.bench.frame import STATION_NAMES, frame
from arkund.bench.in_hand import (
    InHand,
    band_in_hand,
    chain_context,
    channel_in_hand,
    differences_context,
    stage_in_hand,
)
from arkund.bench.pictures import (
    align,
    bus,
    clean,
    dynamics,
    edit,
    eq,
    level,
    load_in,
    replace,
    takes,
)
from arkund.bench.pictures import carries as carrying
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
from arkund.core.exchange.tables import KINDS
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Stage
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.pairs import other_side, stereo_of
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.meant import DIVISIONS
from arkund.songs import facts, hits, stock, turns
from arkund.songs.models import Job, Song
from arkund.songs.rendering import grid_of

_PICTURES = {
    "edit": edit.picture,
    "align": align.picture,
    "level": level.picture,
    "clean": clean.picture,
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
    if station in _EXTRAS:
        context |= _EXTRAS[station](_Asked(request, song, sheet, context["mic"]))
    return render(request, f"bench/{station}.html", context)


def _rule(request: HttpRequest, sheet: Sheet) -> int:
    """The timing rule in the query, or the last."""
    last = len(sheet.timing.rules) - 1
    return asked_number(request, "rule", last, 0, max(last, 0))


def _timing(song: Song, sheet: Sheet, request: HttpRequest) -> dict[str, Any]:
    """What the Edit page shows of rules, pieces and kinds of hit."""
    rules = [r.model_dump() for r in sheet.timing.rules]
    return {
        "rules": rules,
        "rule": _rule(request, sheet),
        "divisions": list(DIVISIONS),
        "pieces": hits.known_pieces(sheet),
        "kinds": KINDS,
        "now": rules[_rule(request, sheet)] if rules else None,
    }


def _bus(request: HttpRequest, sheet: Sheet) -> str:
    """The bus, group or drum bus in the query, or the first bus."""
    name = request.GET.get("bus", "")
    known = name in sheet.buses or name in sheet.groups or name == DRUM_BUS
    return name if known else next(iter(sheet.buses), DRUM_BUS)


def _layer_in_hand(request: HttpRequest, sheet: Sheet, mic: str) -> str:
    """The layer in the query, or the first of the mic's piece."""
    own = replace.layers_of(sheet, sheet.mics[mic].name.piece)
    asked = request.GET.get("layer", "")
    return asked if asked in own else next(iter(own), "")


def _hand(request: HttpRequest, sheet: Sheet, mic: str) -> InHand:
    """The channel in the query, or the mic's."""
    return channel_in_hand(sheet, request.GET.get("channel", ""), mic)


def _stage(request: HttpRequest, hand: InHand, station: str) -> Stage | None:
    """The stage in the query, or the page's first."""
    return stage_in_hand(hand.channel, request.GET.get("stage", ""), station)


SHAPE = ("eq", "dynamics")
"""The two pages of Shape."""


def _rulers(station: str, mic: str, request: HttpRequest, sheet: Sheet) -> list[rulers.Ruler]:
    if station in SHAPE:
        hand = _hand(request, sheet, mic)
        stage = _stage(request, hand, station)
        band = band_in_hand(stage, request.GET.get("band", ""))
        return rulers.stage_rulers(hand.path, stage, band) if stage else []
    if station == "bus":
        name = _bus(request, sheet)
        own = rulers.channel_rulers(sheet, name)
        return own if name == DRUM_BUS else [*own, *rulers.channel_rulers(sheet, DRUM_BUS)]
    if station == "replace":
        return rulers.replace_rulers(sheet, mic, _layer_in_hand(request, sheet, mic))
    if station == "edit":
        return rulers.timing_rulers(_rule(request, sheet)) if sheet.timing.rules else []
    by_station = {
        "align": rulers.align_rulers,
        "level": rulers.level_rulers,
        "clean": rulers.clean_rulers,
    }
    return by_station[station](mic) if station in by_station else []


@dataclass(frozen=True)
class _Asked:
    """What a station's page is asked for."""

    request: HttpRequest
    song: Song
    sheet: Sheet
    mic: str


TRIMS_DB = (-1.0, -0.5, 0.5, 1.0)
"""Steps by which mics are trimmed together."""


def _level(asked: _Asked) -> dict[str, Any]:
    sheet, mic = asked.sheet, asked.mic
    group = sheet.mics[mic].to
    together = [m for m in mic_order(sheet) if group in sheet.groups and sheet.mics[m].to == group]
    other = other_side(sheet, mic)
    stands = stereo_of(sheet.mics[mic].pan, sheet.mics[other].pan) if other else None
    pair = stands and {
        "width_percent": f"{100 * stands.width:.0f}",
        "balance_percent": f"{100 * stands.balance:.0f}".replace("-", "−"),
    }
    return {"other_side": other, "pair": pair, "together": together, "trims": TRIMS_DB}


def _replace(asked: _Asked) -> dict[str, Any]:
    sheet, mic = asked.sheet, asked.mic
    name = _layer_in_hand(asked.request, sheet, mic)
    piece = sheet.mics[mic].name.piece
    return {
        "layer": name,
        "layers": replace.layers_of(sheet, piece),
        "struck": piece,
        "sources": stock.sources(piece) if piece else [],
        "stock": stock.listed(piece) if piece else [],
        "choices": [c.as_dict() for c in rulers.layer_choices(sheet, name)],
    }


def _buses(asked: _Asked) -> dict[str, Any]:
    sheet, mic, name = asked.sheet, asked.mic, _bus(asked.request, asked.sheet)
    sends = sheet.buses[name].sends if name in sheet.buses else {}
    shown = [m for m in (*sheet.mics, *sheet.groups, *sheet.buses) if m in sends]
    hand = channel_in_hand(sheet, name, mic)
    return {
        "bus": name,
        "called": hand.label,
        "is_bus": name in sheet.buses,
        "renames": "" if name == DRUM_BUS else hand.path,
        "buses": [(n, channel_in_hand(sheet, n, mic).label) for n in sheet.buses],
        "channels": [*((n, n) for n in sheet.groups), (DRUM_BUS, "all")],
        "chain": chain_context(hand, None, {"mic": mic, "channel": name}),
        "differences": differences_context(sheet, hand, None, ""),
        "sends": [
            r.with_value(sheet) | {"at": f"buses.{name}.sends.{source}"}
            for r, source in zip(rulers.send_rulers(name, shown), shown, strict=True)
        ],
        "could_send": [
            (n, channel_in_hand(sheet, n, n).label)
            for n in (*mic_order(sheet), *sheet.groups, *sheet.buses)
            if n not in shown and n != name
        ],
    }


def _print(asked: _Asked) -> dict[str, Any]:
    running = asked.song.jobs.filter(kind="print").exclude(
        state__in=[Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    )
    sheet = asked.sheet
    return {
        "prints": asked.song.prints.select_related("revision"),
        "running": running.first(),
        "files": [*sheet.mics, *(f"{b} return" for b in sheet.buses), "mix"],
    }


def _first_pass(asked: _Asked) -> dict[str, Any]:
    return history.first_pass_report(asked.song) | {"running": running_pass(asked.song)}


def _shape(asked: _Asked, station: str) -> dict[str, Any]:
    """What the Shape pages show of a channel and its stage."""
    request, sheet, mic = asked.request, asked.sheet, asked.mic
    hand = _hand(request, sheet, mic)
    stage = _stage(request, hand, station)
    band = band_in_hand(stage, request.GET.get("band", ""))
    where = {"mic": mic} | ({} if hand.is_mic else {"channel": hand.name})
    return {
        "hand": hand,
        "stage": stage,
        "stage_label": type(stage).label if stage else "",
        "stage_path": f"{hand.path}.chain.{stage.id}" if stage else "",
        "band": band,
        "where": urlencode(where | ({"stage": stage.id} if stage else {})),
        "bands": [b.id for b in stage.bands] if isinstance(stage, Equaliser) else [],
        "choices": [c.as_dict() for c in rulers.stage_choices(hand.path, stage, band)]
        if stage
        else [],
        "chain": chain_context(hand, stage, where),
        "differences": differences_context(sheet, hand, stage, band),
        "key": (key := rulers.key_sources(sheet, hand.path, stage) if stage else None)
        and key.as_dict(),
        "key_node": f"{hand.name}.{stage.id}.key" if stage and key else "",
    }


_EXTRAS: dict[str, Callable[[_Asked], dict[str, Any]]] = {
    "edit": lambda asked: _timing(asked.song, asked.sheet, asked.request),
    "load-in": lambda asked: load_in.context(asked.sheet, asked.mic, facts.mic_files(asked.sheet)),
    "level": _level,
    "clean": lambda asked: {
        "choices": [c.as_dict() for c in rulers.gate_choices(asked.sheet, asked.mic)],
        "key_node": f"{asked.mic}.clean.key",
    },
    **{station: partial(_shape, station=station) for station in SHAPE},
    "bus": _buses,
    "replace": _replace,
    "print": _print,
    "log": lambda asked: {"lines": history.lines(asked.song)},
    "first-pass": _first_pass,
    "compare": lambda asked: history.comparison(asked.song, *_compared(asked.request, asked.song)),
}
"""What a station's page needs besides its rulers."""


def _compared(request: HttpRequest, song: Song) -> tuple[int, int]:
    """The two revisions to compare: the first and the present one by default."""
    assert song.current is not None
    a, b = (asked_revision(request, song, name) for name in ("a", "b"))
    return a or 1, b or song.current.number


@require_GET
def picture(request: HttpRequest, slug: str, station: str) -> JsonResponse:
    """What the station's picture and rulers show, of a revision with a try on top."""
    if station not in (*_PICTURES, *SHAPE, "bus", "replace"):
        raise Http404
    turns.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    mic = asked_mic(request, sheet)
    bars = asked_bars(request, sheet, grid_of(sheet))
    if station == "bus":
        return JsonResponse(bus.picture(song, sheet, mic, bars, _bus(request, sheet)))
    if station == "replace":
        name = _layer_in_hand(request, sheet, mic)
        hit = request.GET.get("hit", "")[:60]
        return JsonResponse(replace.picture(song, sheet, mic, name, hit))
    if station in SHAPE:
        hand = _hand(request, sheet, mic)
        draw = eq.picture if station == "eq" else dynamics.picture
        return JsonResponse(draw(sheet, hand, _stage(request, hand, station), bars))
    return JsonResponse(_PICTURES[station](song, sheet, mic, bars))


@require_GET
def carries(request: HttpRequest, slug: str) -> JsonResponse:
    """Who carries each piece, of the song as it stands: asked for where it is looked at."""
    turns.after_sound()
    return JsonResponse(carrying.picture(song_named(slug)))
