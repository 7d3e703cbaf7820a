"""Rendering of stored songs: the engine of a sheet, previews, and what a preview measures."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.measure.loudness import loudness_lufs
from arkund.core.mix.engine import Engine
from arkund.core.mix.graph import Graph, Variant, build, grid_of
from arkund.core.mix.nodes import Node
from arkund.core.mix.sheet import Sheet
from arkund.core.units import SILENCE_DB, amplitude_to_db
from arkund.songs import storage

__all__ = ["grid_of"]

MATCH_LIMIT_DB = 12.0


def engine_for(sheet: Sheet) -> Engine:
    """An engine on the process's cache. Cheap: make one a request."""
    return Engine(sheet.rate, sheet.frames, storage.tile_cache())


def graph_of(sheet: Sheet, variant: Variant = "now") -> Graph:
    return build(sheet, storage.library(), variant)


def node_of(sheet: Sheet, name: str, variant: Variant) -> Node:
    """A public node in a variant. As recorded, and of what was removed, a mic or the whole kit."""
    graph = graph_of(sheet, variant)
    if variant == "recorded":
        if name in graph.mics:
            return graph.mics[name].source
        return graph.node(name) if name in ("song", *graph.beside) else graph.output
    return graph.node(name)


def render_span(
    sheet: Sheet, name: str, variant: Variant, start: int, stop: int
) -> NDArray[np.float32]:
    """``(frames, 1 or 2)`` of a node; silence outside the song."""
    engine = engine_for(sheet)
    sound = engine.read(node_of(sheet, name, variant), start, stop)
    return sound[:, None] if sound.ndim == 1 else sound


@dataclass(frozen=True)
class SpanMeasures:
    """Peak and loudness of a span as it is now, and the gain that matches it to the recording."""

    peak_dbfs: float
    loudness_lufs: float
    crest_db: float
    recorded_lufs: float
    match_db: float


def measure_span(sheet: Sheet, name: str, start: int, stop: int) -> SpanMeasures:
    """Figures for the listening strip. ``match_db`` is what *as recorded* must be turned up by to
    be as loud as *now*, held within ±12 dB; spans under 3 s are matched over the whole song. The
    reference is matched to the drums as they are now."""
    now = render_span(sheet, name, "now", start, stop)
    matched = (0, sheet.frames) if stop - start < 3 * sheet.rate else (start, stop)
    beside = "output" if name == "reference" else name
    loud_now = loudness_lufs(render_span(sheet, beside, "now", *matched), sheet.rate)
    loud_then = loudness_lufs(render_span(sheet, name, "recorded", *matched), sheet.rate)
    match = 0.0
    if loud_now > SILENCE_DB and loud_then > SILENCE_DB:
        match = float(np.clip(loud_now - loud_then, -MATCH_LIMIT_DB, MATCH_LIMIT_DB))
    peak = amplitude_to_db(float(np.abs(now).max(initial=0.0)))
    rms = amplitude_to_db(float(np.sqrt(np.mean(np.square(now, dtype=np.float64)))))
    own = loudness_lufs(now, sheet.rate)
    return SpanMeasures(
        round(peak, 1), round(own, 1), round(peak - rms, 1), round(loud_then, 1), round(match, 1)
    )
