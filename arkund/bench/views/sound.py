"""Sound and waveforms for the browser: 16-bit PCM, extremes for drawing, figures of a span."""

from dataclasses import asdict
from urllib.parse import quote

import numpy as np
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.views.decorators.http import require_GET

from arkund.bench.requests import (
    asked_number,
    asked_real,
    asked_sheet,
    asked_span,
    asked_variant,
    song_named,
)
from arkund.core.audio.overview import BASE, columns_of
from arkund.core.sheet.lanes import ONE_FILE
from arkund.songs import rendering, storage
from arkund.songs.scheduling import SCHEDULE


@require_GET
def pcm(request: HttpRequest, slug: str) -> HttpResponse:
    """A span of a node as 16-bit planar PCM, left then right.

    ``X-Scale`` is the amplitude of full scale, so that peaks over 0 dBFS arrive whole; ``X-Broken``
    says, percent-encoded, which channel plays silence because its sound is not a number.
    """
    with SCHEDULE.sounding():
        return _rendered(request, slug)


def _rendered(request: HttpRequest, slug: str) -> HttpResponse:
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    variant = asked_variant(request)
    start, stop = asked_span(request, sheet, 20.0)
    name = request.GET.get("node", "output")
    at_once = request.GET.get("at_once") == "1"
    is_gone = request.META.get("waitress.client_disconnected")
    sound = rendering.preview_span(
        sheet, name, variant, start, stop, at_once=at_once, is_given_up=is_gone
    )
    scale = max(1.0, float(np.abs(sound).max(initial=0.0)))
    planar = np.rint(sound.T * (32767.0 / scale)).astype("<i2")
    response = HttpResponse(planar.tobytes(), content_type="application/octet-stream")
    response["X-Scale"] = f"{scale:.6f}"
    response["X-Channels"] = str(sound.shape[1])
    response["Cache-Control"] = "no-store"
    if broken := rendering.broken_sentence(sheet, variant):
        response["X-Broken"] = quote(broken)
    return response


@require_GET
def lanes(request: HttpRequest, slug: str) -> HttpResponse:
    """Extremes for drawing: for each of ``mics`` ``columns`` pairs of int16 (lowest, highest).

    ``node`` is ``source`` or ``clean`` (as the gate leaves it). Beside ``columns`` that are finer
    than the stored overview, the sound itself is read.
    """
    SCHEDULE.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    start, stop = asked_span(request, sheet, sheet.frames / sheet.rate + 10)
    columns = asked_number(request, "columns", 800, 16, 4000)
    wanted = [m for m in request.GET.get("mics", "").split(",") if m in sheet.mics]
    stage = request.GET.get("node", "source")
    rows = []
    for mic in wanted:
        source = sheet.take.sources.get(mic)
        if (
            source is not None
            and stage == "source"
            and sheet.mics[mic].role not in ONE_FILE
            and not sheet.comp
            and not sheet.copies
            and not sheet.take.offset
            and (stop - start) / columns >= 2 * BASE
        ):
            extremes = storage.load_overview(source.sha256, source.pick).columns(
                start, stop, columns
            )
        else:
            engine, stages = rendering.engine_for(sheet), rendering.graph_of(sheet).mics[mic]
            node = stages.source if stage == "source" else stages.clean
            if stage == "placed":
                node = stages.placed
            extremes = columns_of(engine.read(node, start, stop), columns)
        rows.append(extremes)
    data = np.stack(rows) if rows else np.zeros((0, columns, 2), np.int16)
    return HttpResponse(data.astype("<i2").tobytes(), content_type="application/octet-stream")


@require_GET
def figures(request: HttpRequest, slug: str) -> JsonResponse:
    """Peak, loudness and match gain of a span; with ``to`` also the gain to that loudness."""
    SCHEDULE.after_sound()
    song = song_named(slug)
    sheet = asked_sheet(request, song)
    start, stop = asked_span(request, sheet, 200.0)
    name = request.GET.get("node", "output")
    found = rendering.measure_span(sheet, name, start, stop)
    to = asked_real(request, "to", found.loudness_lufs, -200, 60)
    to_db = rendering.matched_db(found.loudness_lufs, to)
    return JsonResponse(asdict(found) | {"to_db": round(to_db, 1)})
