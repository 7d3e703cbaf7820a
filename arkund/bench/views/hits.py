"""Editing strokes: the hit list, and where a stroke is put."""

from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import asked_sheet, base_of, body, song_named
from arkund.bench.views.changes import answer
from arkund.core.errors import ArkundError
from arkund.core.exchange.tables import edits_csv
from arkund.songs import copies, hits, revisions, timing

MAGNET_MS = 12.0


@require_POST
def correct(request: HttpRequest, slug: str) -> JsonResponse:
    """Change the strokes ``ids``, or add one of ``piece`` at ``at_s``."""
    song, data = song_named(slug), body(request)
    base, ids, change = base_of(data), data.get("ids"), data.get("change")
    try:
        if isinstance(data.get("piece"), str):
            kind = str(data.get("kind", "plain"))
            return answer(hits.add(song, base, data["piece"], float(data["at_s"]), kind))
        if isinstance(ids, list) and isinstance(change, dict):
            return answer(hits.correct(song, base, [str(i) for i in ids], change))
    except (KeyError, TypeError, ValueError):
        pass
    raise ArkundError("Choose strokes and say what is to be changed about them.")


@require_POST
def move(request: HttpRequest, slug: str) -> JsonResponse:
    """Put the stroke ``id`` at ``to_s``, drawn to the grid's line nearby unless ``free``; or, with
    ``middle``, the middle of the pair that it leads on its line."""
    song, data = song_named(slug), body(request)
    base, to_s = data.get("base"), data.get("to_s")
    if isinstance(base, int) and data.get("middle"):
        patch = timing.middle_patch(timing.sheet_of(song), str(data.get("id", "")))
        return answer(revisions.keep(song.pk, base, patch, station="edit"))
    if not isinstance(base, int) or not isinstance(to_s, (int, float)):
        raise ArkundError("A move needs a stroke, the time it goes to, and the revision it starts "
                          "from.")  # fmt: skip
    sheet = timing.sheet_of(song)
    reach = None if data.get("free") else MAGNET_MS
    patch = timing.drag_patch(sheet, str(data.get("id", "")), float(to_s), reach)
    return answer(revisions.keep(song.pk, base, patch, station="edit"))


@require_POST
def copy(request: HttpRequest, slug: str) -> JsonResponse:
    """Copy bars ``first`` to ``last`` of ``take`` over ``to_bar`` on, ``times`` in a row; or the
    stroke ``id`` in place of the stroke ``over`` or to the time ``to_s``."""
    song, data = song_named(slug), body(request)
    base = base_of(data)
    if "id" in data:
        to = data.get("over") or data.get("to_s")
        if not isinstance(to, (str, int, float)):
            raise ArkundError("Choose the stroke that is to be replaced.")
        return answer(copies.copy_stroke(song, base, str(data["id"]), to))
    try:
        bars = [int(data[k]) for k in ("take", "first", "last", "to_bar", "times")]
    except (KeyError, TypeError, ValueError):
        raise ArkundError("Take, bars and how many times are whole numbers.") from None
    return answer(copies.copy_bars(song, base, *bars))


@require_GET
def edit_list(request: HttpRequest, slug: str) -> HttpResponse:
    """What was moved, by how much and by which rule, as CSV."""
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    text = edits_csv(timing.edits_of(sheet), timing.grid_of(sheet))
    name = f"{song.slug}-edits.csv"
    return HttpResponse(
        text, content_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )  # fmt: skip
