"""Reading what a request asks for: the one place where text from outside becomes values.

Bodies are JSON and become pydantic models, one a view, each with the sentence of its refusal;
queries are read by the functions here. Whatever cannot be read raises `ArkundError`.
"""

import json
import math
import tempfile
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any, ClassVar, TypeVar, cast

from django.http import HttpRequest
from django.shortcuts import get_object_or_404
from pydantic import BaseModel, ConfigDict, Field, StrictInt, StringConstraints, ValidationError

from arkund.core.errors import ArkundError
from arkund.core.graph.graph import VARIANTS, Variant
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.grid import Grid
from arkund.songs.models import Song
from arkund.songs.timing import sheet_of

LONGEST_DRAWN_BARS = 32
DEEPEST = 24
"""Levels of lists and objects within each other; a sheet has eight."""

Number = Annotated[StrictInt, Field(ge=0, le=2**31 - 1)]
Real = Annotated[float, Field(ge=-1e9, le=1e9, allow_inf_nan=False)]
Line = Annotated[str, StringConstraints(strip_whitespace=True, max_length=255)]
Prose = Annotated[str, StringConstraints(strip_whitespace=True, max_length=1000)]


class Asked(BaseModel):
    """What a view expects in a request's body. ``refusal`` is said when it is something else, or
    what ``refusals`` say of the field that is."""

    model_config = ConfigDict(frozen=True)
    refusal: ClassVar[str] = "The request could not be read; reload the page and try again."
    refusals: ClassVar[Mapping[str, str]] = {}


class Change(Asked):
    """A change to the song, made from revision ``base``."""

    refusal: ClassVar[str] = (
        "A change needs the revision it starts from; reload the page and try again."
    )
    base: Number


AnAsked = TypeVar("AnAsked", bound=Asked)


def body(request: HttpRequest, wanted: type[AnAsked]) -> AnAsked:
    """What a request's body asks for. Raises `ArkundError` with the refusal of ``wanted``."""
    try:
        return wanted.model_validate(_object(request.body or b"{}", wanted.refusal))
    except ValidationError as error:
        field = str(next(iter(error.errors(include_url=False)[0]["loc"]), ""))
        raise ArkundError(wanted.refusals.get(field, wanted.refusal)) from None


def read_patch(text: str) -> dict[str, Any]:
    """A patch as JSON text; nothing for empty text."""
    return _object(text, "The change could not be read.") if text else {}


def _object(text: str | bytes, refusal: str) -> dict[str, Any]:
    """A JSON object: of numbers that are numbers, text that can be stored, and no great depth."""
    try:
        data = json.loads(text, parse_constant=_no_number, parse_float=_finite)
        json.dumps(data, ensure_ascii=False).encode()  # lone surrogates cannot be stored
    except (ValueError, RecursionError):
        raise ArkundError(refusal) from None
    if not isinstance(data, dict) or _depth(data) > DEEPEST:
        raise ArkundError(refusal)
    return data


def _no_number(text: str) -> float:
    raise ValueError(text)


def _finite(text: str) -> float:
    value = float(text)
    if abs(value) > 1e300:
        raise ValueError(text)
    return value


def _depth(data: Any) -> int:
    depth, level = 0, [data]
    while level and depth <= DEEPEST:
        depth += 1
        level = [
            inner
            for outer in level
            if isinstance(outer, (dict, list))
            for inner in (outer.values() if isinstance(outer, dict) else outer)
        ]
    return depth


def number_in(text: str) -> int | None:
    """A whole number of up to nine ASCII digits, or None. (`str.isdigit` takes ``²`` for one.)"""
    return int(text) if text.isascii() and text.isdigit() and len(text) <= 9 else None


def asked_number(request: HttpRequest, name: str, fallback: int, low: int, high: int) -> int:
    """A number of the query held between ``low`` and ``high``; ``fallback`` where it is none."""
    found = number_in(request.GET.get(name, ""))
    return min(max(fallback if found is None else found, low), high)


def asked_real(request: HttpRequest, name: str, fallback: float, low: float, high: float) -> float:
    """`asked_number` with a fraction."""
    try:
        found = float(request.GET.get(name, ""))
    except ValueError:
        return fallback
    return min(max(found, low), high) if math.isfinite(found) else fallback


def song_named(slug: str) -> Song:
    return get_object_or_404(Song.objects.on_desk(), slug=slug)


def asked_revision(request: HttpRequest, song: Song, name: str = "rev") -> int | None:
    """The revision in the query; None where it names none. Raises `ArkundError` for one that the
    song does not have."""
    text = request.GET.get(name, "")
    number = number_in(text)
    if number is None:
        if text:
            raise ArkundError(f"“{text[:20]}” is not the number of a revision.")
        return None
    if not song.revisions.filter(number=number).exists():
        raise ArkundError(f"The song has no revision {number}.")
    return number


def asked_sheet(request: HttpRequest, song: Song) -> Sheet:
    """The sheet of ``rev`` (current by default) with the try in ``patch`` on top."""
    revision = asked_revision(request, song)
    loop = _loop(request)
    if loop and loop[1] - loop[0] >= LONGEST_DRAWN_BARS:
        loop = None
    return sheet_of(song, revision, read_patch(request.GET.get("patch", "")), loop)


def _loop(request: HttpRequest) -> tuple[int, int] | None:
    """The loop in the query as it is written; None where it is none."""
    first, last = map(number_in, request.GET.get("bars", "").partition("-")[::2])
    return None if first is None or last is None else (max(first, 1), max(first, last, 1))


def asked_mic(request: HttpRequest, sheet: Sheet) -> str:
    """The mic in the query, or the first shell's."""
    mic = request.GET.get("mic", "")
    if mic in sheet.mics:
        return mic
    order = mic_order(sheet)
    return next((m for m in ("snare_top", "kick_in") if m in sheet.mics), order[0])


def asked_bars(request: HttpRequest, sheet: Sheet, grid: Grid) -> tuple[int, int]:
    """The bars of the loop that are drawn: the first `LONGEST_DRAWN_BARS` of them."""
    first, last = asked_loop(request, sheet, grid)
    return first, min(last, first + LONGEST_DRAWN_BARS - 1)


def asked_loop(request: HttpRequest, sheet: Sheet, grid: Grid) -> tuple[int, int]:
    """First and last bar of the loop, both within the song; four bars by default."""
    total = bars_of(sheet, grid)
    # The second four bars: past the count and into the groove.
    first, last = _loop(request) or ((5, 8) if total >= 8 else (1, 4))
    # Bars before the first sample hold nothing to hear or draw.
    first = min(max(first, int(grid.bar_at(0.0))), total)
    return first, max(first, min(last, total))


def bars_of(sheet: Sheet, grid: Grid) -> int:
    return grid.bars_in(sheet.frames / sheet.rate)


def asked_variant(request: HttpRequest) -> Variant:
    variant = request.GET.get("variant", "now")
    if variant not in VARIANTS:
        raise ArkundError("Sound can be heard as recorded, now, or as removed.")
    return cast(Variant, variant)


def asked_span(request: HttpRequest, sheet: Sheet, longest_s: float) -> tuple[int, int]:
    """``start`` and ``frames`` of the query, held within the song and to ``longest_s``."""
    text = request.GET.get("start", "")
    back = text.startswith("-")
    start, frames = number_in(text.removeprefix("-")), number_in(request.GET.get("frames", ""))
    if start is None or frames is None:
        raise ArkundError("A span needs its start and its number of frames.")
    if not 1 <= frames <= longest_s * sheet.rate or start > sheet.frames + sheet.rate:
        raise ArkundError("That span does not lie within the song.")
    start = -start if back else start
    return start, start + frames


@contextmanager
def sent_file(
    request: HttpRequest, field: str, largest: int, none: str, too_large: str
) -> Iterator[Path]:
    """An uploaded file on the disk under its own name, as long as it is needed. Raises `ArkundError` in the words
    ``none`` where there is none, and ``too_large`` where it has more than ``largest`` bytes."""
    sent = request.FILES.get(field)
    if sent is None or sent.size is None:
        raise ArkundError(none)
    if sent.size > largest:
        raise ArkundError(too_large)
    with tempfile.TemporaryDirectory() as folder:
        # Only the last part of the name is kept, and only to be named in messages.
        name = "".join(c for c in Path(str(sent.name)).name if c.isprintable())[-80:]
        path = Path(folder) / (name.strip(".") or field)
        path.write_bytes(sent.read())
        yield path
