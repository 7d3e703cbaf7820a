"""Level: mics trimmed together, and the stage from the other seat."""

from dataclasses import asdict
from typing import ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import (
    Change,
    Line,
    Real,
    asked_sheet,
    asked_span,
    body,
    song_named,
)
from arkund.bench.stations.level.carries import picture as carried
from arkund.bench.views.changes import answer
from arkund.songs import levelling
from arkund.songs.scheduling import SCHEDULE

LONGEST_S = 200.0


class Together(Change):
    """Mics, and by how many dB they are trimmed."""

    refusal: ClassVar[str] = "Say which mics are trimmed, and by how many dB."
    mics: tuple[Line, ...]
    by_db: Real


@require_GET
def readings(request: HttpRequest, slug: str) -> JsonResponse:
    """Peaks of every mic, group, layer and bus over a span, a step of `READING_S` each."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    start, stop = asked_span(request, sheet, LONGEST_S)
    rows = [asdict(one) | {"peak": one.peak} for one in levelling.readings(sheet, start, stop)]
    return JsonResponse({"step_s": levelling.READING_S, "rows": rows})


@require_POST
def together(request: HttpRequest, slug: str) -> JsonResponse:
    """Trim mics by the same dB; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Together)
    return answer(levelling.trim_together(song, asked.mics, asked.by_db, base=asked.base))


@require_POST
def mirror(request: HttpRequest, slug: str) -> JsonResponse:
    """Pan every mic to the other side; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Change)
    return answer(levelling.mirror(song, base=asked.base))


class Spread(Change):
    """A side of a pair, and how wide the pair stands and where its middle lies."""

    refusal: ClassVar[str] = "Width goes from 0 to 100 %, balance from −100 (left) to 100 (right)."
    mic: Line
    width_percent: Real | None = None
    balance_percent: Real | None = None


@require_POST
def spread(request: HttpRequest, slug: str) -> JsonResponse:
    """Pan both sides of a pair; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Spread)
    width, balance = (
        None if percent is None else percent / 100
        for percent in (asked.width_percent, asked.balance_percent)
    )
    return answer(
        levelling.spread_pair(song, asked.mic, width=width, balance=balance, base=asked.base)
    )


class HitGain(Change):
    """A mic, one of the hits in it, and by how many dB it is turned up."""

    refusal: ClassVar[str] = "Say which hit of which mic is turned up or down, and by how many dB."
    mic: Line
    hit: Line
    gain_db: Real


@require_POST
def clip_gain(request: HttpRequest, slug: str) -> JsonResponse:
    """Turn one hit of a mic up or down; made from revision ``base``."""
    song, asked = song_named(slug), body(request, HitGain)
    return answer(levelling.clip_gain(song, asked.mic, asked.hit, asked.gain_db, base=asked.base))


@require_GET
def carries(request: HttpRequest, slug: str) -> JsonResponse:
    """Who carries each piece, of the song as it stands: asked for where it is looked at."""
    SCHEDULE.after_sound()
    return JsonResponse(carried(song_named(slug)))
