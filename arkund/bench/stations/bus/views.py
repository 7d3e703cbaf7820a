"""Bus: the punch of the mix over the blend of the bus in hand, drawn in its ruler."""

from typing import Any

import numpy as np
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_GET

from arkund.bench.drawing import curve, loop_frames
from arkund.bench.requests import asked_bars, asked_sheet, song_named
from arkund.core.errors import ArkundError
from arkund.core.process.values import described
from arkund.core.sheet.channels import Bus
from arkund.songs.blends import BLENDS_DB, Blended, punch_over_blend
from arkund.songs.rendering import grid_of
from arkund.songs.scheduling import SCHEDULE

LEAST_DRAWN_DB = 3.0
"""A curve that stays within this is drawn as flat as it is."""


@require_GET
def blend(request: HttpRequest, slug: str) -> JsonResponse:
    """What the ruler of a bus's blend shows behind its value."""
    SCHEDULE.after_sound()
    sheet = asked_sheet(request, song_named(slug))
    bus = request.GET.get("bus", "")
    if bus not in sheet.buses:
        raise ArkundError("This bus is no longer in the song. Reload the page.")
    span = loop_frames(sheet, asked_bars(request, sheet, grid_of(sheet)))
    found = punch_over_blend(sheet, bus, span)
    return JsonResponse({"rulers": {f"buses.{bus}.fader_db": _drawn(found)}})


def _drawn(found: Blended | None) -> dict[str, Any]:
    if found is None:
        return {"note": "no kick and no snare in this loop: no curve of the punch"}
    out: dict[str, Any] = {"note": found.said}
    if found.full_from_db is not None:
        out["bars"] = [[round(found.full_from_db, 1), described(Bus)["fader_db"].high, 1.0, "full"]]
        out["note"] += f"; over full scale from {found.full_from_db:.1f} dB on".replace("-", "−")
    if found.is_heard:
        reach = max(LEAST_DRAWN_DB, float(np.abs(found.punch_db).max()))
        out["areas"] = [curve(np.array(BLENDS_DB), found.punch_db, -reach, reach, "own")]
    return out
