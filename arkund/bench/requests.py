"""Reading what a request asks for: revision and try, mic, bars, node."""

import json
from typing import Any, cast

from django.http import HttpRequest
from django.shortcuts import get_object_or_404

from arkund.core.errors import ArkundError
from arkund.core.mix.graph import VARIANTS, Variant, mic_order
from arkund.core.mix.sheet import Sheet
from arkund.core.timing.grid import Grid
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of

LONGEST_LOOP_BARS = 32


def song_named(slug: str) -> Song:
    return get_object_or_404(Song.objects.select_related("current"), slug=slug)


def asked_sheet(request: HttpRequest, song: Song) -> Sheet:
    """The sheet of ``rev`` (current by default) with the try in ``patch`` on top."""
    text = request.GET.get("rev", "")
    revision = int(text) if text.isdigit() else None
    if revision is not None and not song.revisions.filter(number=revision).exists():
        raise ArkundError(f"The song has no revision {revision}.")
    return sheet_of(song, revision, read_patch(request.GET.get("patch", "")), _bars(request))


def _bars(request: HttpRequest) -> tuple[int, int] | None:
    """The loop in the query, unchecked."""
    first, _, last = request.GET.get("bars", "").partition("-")
    if not (first.isdigit() and last.isdigit()) or int(last) - int(first) > LONGEST_LOOP_BARS:
        return None
    return int(first), int(last)


def read_patch(text: str) -> dict[str, Any]:
    """A patch as JSON text; nothing for empty text."""
    if not text:
        return {}
    try:
        patch = json.loads(text)
    except json.JSONDecodeError:
        raise ArkundError("The change could not be read.") from None
    if not isinstance(patch, dict):
        raise ArkundError("The change could not be read.")
    return patch


def body(request: HttpRequest) -> dict[str, Any]:
    """The JSON object in a request's body."""
    try:
        data = json.loads(request.body or b"{}")
    except (json.JSONDecodeError, UnicodeDecodeError):
        data = None
    if not isinstance(data, dict):
        raise ArkundError("The request could not be read; reload the page and try again.")
    return data


def base_of(data: dict[str, Any]) -> int:
    """The revision that a change in a request's body starts from."""
    base = data.get("base")
    if not isinstance(base, int):
        raise ArkundError(
            "A change needs the revision it starts from; reload the page and try again."
        )
    return base


def asked_mic(request: HttpRequest, sheet: Sheet) -> str:
    """The mic in the query, or the first shell's."""
    mic = request.GET.get("mic", "")
    if mic in sheet.mics:
        return mic
    order = mic_order(sheet)
    return next((m for m in ("snare_top", "kick_in") if m in sheet.mics), order[0])


def asked_bars(request: HttpRequest, sheet: Sheet, grid: Grid) -> tuple[int, int]:
    """First and last bar of the loop, both within the song; four bars by default."""
    total = bars_of(sheet, grid)
    try:
        first, last = (int(part) for part in request.GET.get("bars", "").split("-"))
    except ValueError:
        # The second four bars: past the count and into the groove.
        first = 5 if total >= 8 else 1
        last = first + 3
    first = max(1, min(first, total))
    return first, max(first, min(last, total, first + LONGEST_LOOP_BARS - 1))


def bars_of(sheet: Sheet, grid: Grid) -> int:
    return grid.bars_in(sheet.frames / sheet.rate)


def asked_variant(request: HttpRequest) -> Variant:
    variant = request.GET.get("variant", "now")
    if variant not in VARIANTS:
        raise ArkundError("Sound can be heard as recorded, now, or as removed.")
    return cast(Variant, variant)


def asked_span(request: HttpRequest, sheet: Sheet, longest_s: float) -> tuple[int, int]:
    """``start`` and ``frames`` of the query, held within the song and to ``longest_s``."""
    try:
        start, frames = int(request.GET["start"]), int(request.GET["frames"])
    except (KeyError, ValueError):
        raise ArkundError("A span needs its start and its number of frames.") from None
    if frames < 1 or frames > longest_s * sheet.rate or abs(start) > sheet.frames + sheet.rate:
        raise ArkundError("That span does not lie within the song.")
    return start, start + frames
