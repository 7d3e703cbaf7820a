"""Editing hits: the hit list, and where a hit is put."""

import re
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Annotated, ClassVar, Literal

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field

from arkund.bench.requests import (
    Asked,
    Change,
    Line,
    Number,
    Real,
    asked_sheet,
    body,
    sent_file,
    song_named,
)
from arkund.bench.views.changes import answer
from arkund.core.errors import ArkundError
from arkund.core.exchange.midi_hits import read_map
from arkund.core.exchange.tables import LARGEST_BYTES as LARGEST_LIST
from arkund.core.exchange.tables import edits_csv
from arkund.core.kit.roles import label
from arkund.core.sheet.tempo import grid_of
from arkund.core.timing.grid import LAST_BAR
from arkund.songs import copies, exports, hits, moving, revisions, timing
from arkund.songs.hits import known_pieces
from arkund.songs.timing import sheet_of

MAGNET_MS = 12.0
SECONDS = re.compile(r"-?[0-9]{1,6}(\.[0-9]{1,6})?")

HitName = Annotated[Line, Field(min_length=1, max_length=80)]
Piece = Annotated[str, Field(pattern=r"^[a-z]+(_[0-9]{1,2})?$")]
Kind = Literal["accent", "plain", "ghost", "flam", "roll"]
LastBar = Annotated[Number, Field(le=LAST_BAR)]


class Said(Asked):
    """What an ear says of some hits; what is left out stays as it is."""

    gone: bool | None = None
    piece: Piece | None = None
    kind: Kind | None = None
    velocity: Annotated[Number, Field(ge=1, le=127)] | None = None
    nudge_s: Annotated[Real, Field(ge=-10, le=10)] = 0.0


class Corrected(Change):
    """A change to hits by id, or a hit to add."""

    refusal: ClassVar[str] = hits.CHOOSE
    ids: tuple[HitName, ...] = Field((), max_length=20_000)
    change: Said = Said()
    piece: Piece | None = None
    kind: Kind = "plain"
    at_s: Real | None = None
    is_bleed: bool = False


@require_POST
def correct(request: HttpRequest, slug: str) -> JsonResponse:
    """Change the hits ``ids``, or say of a moment ``at_s`` that it is a hit of ``piece``, or bleed."""
    song, asked = song_named(slug), body(request, Corrected)
    if asked.piece is not None and asked.at_s is not None and asked.is_bleed:
        return answer(hits.call_bleed(song, asked.base, asked.piece, asked.at_s))
    if asked.piece is not None and asked.at_s is not None:
        return answer(hits.add(song, asked.base, asked.piece, asked.at_s, asked.kind))
    if not asked.ids:
        raise ArkundError(hits.CHOOSE)
    said = asked.change.model_dump(exclude_none=True)
    return answer(hits.correct(song, asked.base, list(asked.ids), said))


class Moved(Change):
    """Where a hit goes; ``middle`` of the pair that it leads, or a time, ``free`` of the grid."""

    refusal: ClassVar[str] = (
        "A move needs a hit, the time it goes to, and the revision it starts from."
    )
    id: HitName
    to_s: Real | None = None
    free: bool = False
    middle: bool = False


@require_POST
def move(request: HttpRequest, slug: str) -> JsonResponse:
    """Put the hit ``id`` at ``to_s``, drawn to the grid's line nearby unless ``free``; or, with
    ``middle``, the middle of the pair that it leads on its line."""
    song, asked = song_named(slug), body(request, Moved)
    sheet = timing.sheet_of(song)
    if asked.middle:
        patch = moving.middle_patch(sheet, asked.id)
    elif asked.to_s is None:
        raise ArkundError(Moved.refusal)
    else:
        patch = moving.drag_patch(sheet, asked.id, asked.to_s, None if asked.free else MAGNET_MS)
    return answer(revisions.keep(song.pk, asked.base, patch, station="edit"))


class CopiedHit(Change):
    """A hit in place of another, or at a time."""

    refusal: ClassVar[str] = "Choose the hit that is to be replaced."
    id: HitName
    over: HitName | None = None
    to_s: Real | None = None


class CopiedBars(Change):
    """Bars of a take laid over others."""

    refusal: ClassVar[str] = "Take, bars and how many times are whole numbers."
    take: Number
    first: LastBar
    last: LastBar
    to_bar: LastBar
    times: Number


class Copied(Asked):
    """Which of the two is asked for."""

    id: HitName | None = None


@require_POST
def copy(request: HttpRequest, slug: str) -> JsonResponse:
    """Copy bars ``first`` to ``last`` of ``take`` over ``to_bar`` on, ``times`` in a row; or the
    hit ``id`` in place of the hit ``over`` or to the time ``to_s``."""
    song = song_named(slug)
    if body(request, Copied).id is not None:
        hit = body(request, CopiedHit)
        to = hit.over if hit.over is not None else hit.to_s
        if to is None:
            raise ArkundError(CopiedHit.refusal)
        return answer(copies.copy_hit(song, hit.base, hit.id, to))
    a = body(request, CopiedBars)
    return answer(copies.copy_bars(song, a.base, a.take, a.first, a.last, a.to_bar, a.times))


@require_POST
def notes_in_file(request: HttpRequest, slug: str) -> JsonResponse:
    """The notes of an uploaded MIDI file with the drums that they are taken for, and the kit to choose from."""
    song = song_named(slug)
    with _sent_list(request) as path:
        found = exports.notes_of(song, path)
    return JsonResponse(
        {
            "notes": [one._asdict() for one in found],
            "pieces": [[piece, label(piece)] for piece in known_pieces(sheet_of(song))],
        }
    )


@require_POST
def from_file(request: HttpRequest, slug: str) -> JsonResponse:
    """Make the hit list what an uploaded CSV or MIDI file says."""
    song, told = song_named(slug), request.POST
    base, begins = told.get("base", ""), told.get("begins", "").strip().replace(",", ".")
    with _sent_list(request) as path:
        if not base.isdecimal():
            raise ArkundError(Change.refusal)
        if begins and not SECONDS.fullmatch(begins):
            raise ArkundError(f"“{begins[:40]}” is no number of seconds.")
        made = exports.import_hits(
            song,
            path,
            pieces=read_map(told.get("map", "")[:LONGEST_MAP]),
            begins_s=float(begins) if begins else None,
            base=int(base),
        )
    return answer(made)


LONGEST_MAP = 4000


def _sent_list(request: HttpRequest) -> AbstractContextManager[Path]:
    """The uploaded list of hits on the disk, as long as it is needed."""
    none, too_large = (
        "Choose a CSV or MIDI file first.",
        "That file is too large for a list of hits.",
    )
    return sent_file(request, "hits", LARGEST_LIST, none, too_large)


@require_GET
def edit_list(request: HttpRequest, slug: str) -> HttpResponse:
    """What was moved, by how much and by which rule, as CSV."""
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    text = edits_csv(timing.edits_of(sheet), grid_of(sheet))
    name = f"{song.slug}-edits.csv"
    return HttpResponse(
        text,
        content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )
