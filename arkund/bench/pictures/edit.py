"""Edit: strokes over the lanes, and how early or late each fell."""

from typing import Any

import numpy as np

from arkund.bench.pictures.common import Bars, shown_hits
from arkund.core.mix.sheet import Sheet
from arkund.songs.models import Song
from arkund.songs.rendering import grid_of


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    grid = grid_of(sheet)
    step = grid.beat_s / 4
    hits = shown_hits(sheet, 0, sheet.frames)
    for hit in hits:
        place = (hit["t"] - grid.first_downbeat_s) / step
        hit["late_ms"] = round((place - round(place)) * step * 1000, 1)
    pieces = sorted({h["piece"] for h in hits})
    placement = []
    for piece in pieces:
        late = np.array([h["late_ms"] for h in hits if h["piece"] == piece])
        low, middle, high = np.percentile(late, [16, 50, 84])
        placement.append(
            {
                "piece": piece,
                "strokes": len(late),
                "middle_ms": round(float(middle), 1),
                "spread_ms": round(float(high - low) / 2, 1),
            }
        )
    return {
        "placement": placement,"hits": hits, "pieces": pieces, "rulers": {},
            "summary": f"{len(hits)} strokes on {len(pieces)} pieces."}  # fmt: skip
