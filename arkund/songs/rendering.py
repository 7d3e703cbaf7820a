"""Rendering of stored songs: the engine of a sheet, previews, and what a preview measures."""

import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.building import build
from arkund.core.graph.graph import TOGETHER, Graph, Variant
from arkund.core.graph.nodes import Node
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.process.stage import Audio
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.faults import faults, refuse_broken
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.units import amplitude_to_db
from arkund.songs import lately, storage
from arkund.songs.scheduling import SCHEDULE

__all__ = ["grid_of"]

LOUDEST_MATCH_DB = 12.0
"""What is matched is turned up by this at most, for ears and loudspeakers; down without a limit."""


DEADLINE_S = 30.0
"""A preview that takes longer than this is no preview: it makes way for others."""


class PatientEngine(Engine):
    """An engine that stands back before it begins anything, but never in the midst of a tile or a
    track, for which somebody may be waiting. Each thread that reads is in the midst of its own."""

    def __init__(
        self,
        rate: int,
        frames: int,
        cache: TileCache,
        stand_back: Callable[[], None],
        *,
        early: bool = True,
    ) -> None:
        super().__init__(rate, frames, cache, sources=cache.sources, early=early, keeps=early)
        self._stand_back = stand_back
        self._thread = threading.local()

    @contextmanager
    def _turn(self) -> Iterator[None]:
        if getattr(self._thread, "is_reading", False):
            yield
            return
        self._stand_back()
        self._thread.is_reading = True
        try:
            yield
        finally:
            self._thread.is_reading = False

    def read(self, node: Node, start: int, stop: int) -> Audio:
        with self._turn():
            return super().read(node, start, stop)

    def track(
        self, key: str, compute: Callable[[Engine], NDArray[np.float64]]
    ) -> NDArray[np.float64]:
        with self._turn():
            return super().track(key, compute)


def engine_for(sheet: Sheet) -> Engine:
    """An early engine on the process's cache that lets sound pass. Cheap: make one a request."""
    return PatientEngine(sheet.rate, sheet.frames, storage.tile_cache(), SCHEDULE.patience())


def exact_engine(sheet: Sheet) -> Engine:
    """The same for what is written to a file, whose tiles nobody asks for again."""
    patience = SCHEDULE.patience()
    return PatientEngine(sheet.rate, sheet.frames, storage.tile_cache(), patience, early=False)


def sounding_engine(sheet: Sheet, is_given_up: Callable[[], bool] | None = None) -> Engine:
    """An engine for what is about to be heard: it waits for nobody, remembers what it reads, and
    writes no try to the disk. It stops when nobody waits for it any more, and after `DEADLINE_S`."""
    cache, until = storage.tile_cache(), time.monotonic() + DEADLINE_S
    engine = Engine(sheet.rate, sheet.frames, cache, sources=cache.sources, keeps=False, early=True)
    return engine.unless(
        lambda: time.monotonic() > until or (is_given_up is not None and is_given_up())
    )


def graph_of(sheet: Sheet, variant: Variant = "now") -> Graph:
    return lately.made(f"graph {variant}", sheet, lambda: build(sheet, storage.library(), variant))


def broken_sentence(sheet: Sheet, variant: Variant = "now") -> str:
    """What to say where a channel's sound is not a number; empty where all that was rendered is fine."""
    cache = storage.tile_cache()
    if not cache.broken:
        return ""
    found = faults(graph_of(sheet, variant), cache, sheet.rate)
    return found[0].sentence if found else ""


def refuse_broken_in(sheet: Sheet, variant: Variant = "now") -> None:
    """Raises `BrokenSound` where what was rendered of a sheet is not a number."""
    refuse_broken(graph_of(sheet, variant), storage.tile_cache(), sheet.rate)


def node_of(sheet: Sheet, name: str, variant: Variant) -> Node:
    """A public node in a variant. As recorded, and of what was removed, a mic or the whole kit."""
    return _node_in(sheet, graph_of(sheet, variant), name, variant)


def _node_in(sheet: Sheet, graph: Graph, name: str, variant: Variant) -> Node:
    if variant == "recorded":
        if TOGETHER in name:
            return graph.node(_mics_of(sheet, name))
        if name in graph.mics:
            return graph.mics[name].source
        return graph.node(name) if name in ("song", *graph.beside) else graph.output
    return graph.node(name)


def _mics_of(sheet: Sheet, several: str) -> str:
    """Of several nodes the mics that they were recorded with: groups by their members; a bus was
    not recorded, and alone among several leaves the whole kit."""
    asked = several.split(TOGETHER)
    mics = [m for m in sounding_mics(sheet) if m in asked or sheet.mics[m].to in asked]
    return TOGETHER.join(mics or sounding_mics(sheet))


def render_span(
    sheet: Sheet,
    name: str,
    variant: Variant,
    start: int,
    stop: int,
    after: str = "",
    engine: Engine | None = None,
) -> NDArray[np.float32]:
    """``(frames, 1 or 2)`` of a node, or behind the stage ``after`` of its chain; silence outside
    the song."""
    node = (
        graph_of(sheet, variant).chain(name).tap(after) if after else node_of(sheet, name, variant)
    )
    return _read(engine or engine_for(sheet), node, start, stop)


def preview_span(
    sheet: Sheet,
    name: str,
    variant: Variant,
    start: int,
    stop: int,
    *,
    at_once: bool = False,
    is_given_up: Callable[[], bool] | None = None,
) -> NDArray[np.float32]:
    """`render_span` on two cores: what feeds the kit side by side, of a group or a bus its mics. With
    ``at_once`` nothing else is waiting to be heard (`Engine.at_once`). Raises `GivenUp` where the
    listener has gone."""
    graph, engine = graph_of(sheet, variant), sounding_engine(sheet, is_given_up)
    if at_once:
        engine = engine.at_once(start, stop)
    node = _node_in(sheet, graph, name, variant)
    if name not in sheet.mics and variant != "recorded":
        whole, levels = node in (graph.output, graph.sum, graph.song), graph.levels()
        engine.ahead(levels if whole else levels[:1], [(start, stop)], _pool)
    return _read(engine, node, start, stop)


# One for all requests: more threads than cores would only wait for each other.
_pool = ThreadPoolExecutor(2, thread_name_prefix="render")


def _read(engine: Engine, node: Node, start: int, stop: int) -> NDArray[np.float32]:
    sound = engine.read(node, start, stop)
    return sound[:, None] if sound.ndim == 1 else sound


@dataclass(frozen=True)
class SpanMeasures:
    """Peak and loudness of a span as it is now, and the gain that matches it to the recording."""

    peak_dbfs: float
    loudness_lufs: float
    crest_db: float
    recorded_lufs: float
    match_db: float


def matched_db(loudness: float, wanted: float) -> float:
    """The gain that brings a loudness to a wanted one; 0 where either is silence."""
    if min(loudness, wanted) <= -150:
        return 0.0
    return min(wanted - loudness, LOUDEST_MATCH_DB)


def measure_span(sheet: Sheet, name: str, start: int, stop: int) -> SpanMeasures:
    """Figures for the listening strip. ``match_db`` is what *as recorded* must be turned up by to
    be as loud as *now* (`matched_db`); spans under 3 s are matched over the whole song. The
    reference is matched to the drums as they are now."""
    matched = (0, sheet.frames) if stop - start < 3 * sheet.rate else (start, stop)
    beside = "output" if name == "reference" else name
    whole = render_span(sheet, beside, "now", *matched)
    is_within = beside == name and matched[0] <= start <= stop <= matched[1]
    now = (
        whole[start - matched[0] : stop - matched[0]]
        if is_within
        else render_span(sheet, name, "now", start, stop)
    )
    loud_now = loudness_lufs(whole, sheet.rate)
    loud_then = loudness_lufs(render_span(sheet, name, "recorded", *matched), sheet.rate)
    match = matched_db(loud_then, loud_now)
    peak = amplitude_to_db(float(np.abs(now).max(initial=0.0)))
    rms = amplitude_to_db(float(np.sqrt(np.mean(np.square(now, dtype=np.float64)))))
    own = loudness_lufs(now, sheet.rate)
    return SpanMeasures(
        round(peak, 1), round(own, 1), round(peak - rms, 1), round(loud_then, 1), round(match, 1)
    )
