"""Rendering: any node, any span, always the same samples.

The unit is the tile of `TILE_S` seconds. A tile is a function of its node's key and number alone,
so previews and prints are made of the same tiles. At every `BORDER`th tile a processor begins from
a state that is known there; in between it goes on from the tile before.
"""

import threading
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.audio.files import SoundFileReader, pick_channel
from arkund.core.mix.cache import Memory, TileCache
from arkund.core.mix.nodes import LOUDEST, File, Node, Processed
from arkund.core.process.stage import Audio

TILE_S = 2
"""Short enough for the first sound after a change to be there at once."""

BORDER = 2
"""States are known every so many tiles: what comes before a border is never waited for."""

FORGETS_WITHIN_S = 4
"""A processor whose memory is longer than this has its state stored at borders; one that forgets
sooner starts at rest so long before them."""


class Engine:
    """Renders nodes of songs of one rate and length. Safe among threads.

    With ``sources`` it remembers there what it reads from files, which pays where the same bars
    are rendered again and again. Unless it ``keeps``, what it renders goes to memory alone.
    """

    def __init__(
        self, rate: int, frames: int, cache: TileCache, *, sources: Memory | None = None,
        keeps: bool = True,
    ) -> None:  # fmt: skip
        self.rate, self.frames, self.cache = rate, frames, cache
        self._sources, self._keeps = sources, keeps
        self.tile_frames = TILE_S * rate
        self._files = _OpenFiles()

    def read(self, node: Node, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` of a node: ``(frames,)`` or ``(frames, 2)``, not to be
        written to; silence before the song's start."""
        if isinstance(node, File) and self._sources is not None:
            return self._gather(node, start, stop, partial(self._source, self._sources))
        if node.is_cheap:
            return self._render_span(node, start, stop)
        return self._gather(node, start, stop, self.tile)

    def _gather(
        self, node: Node, start: int, stop: int, tile_of: Callable[[Any, int], Audio]
    ) -> Audio:
        size = self.tile_frames
        if start % size == 0 and stop == start + size and start >= 0:
            return tile_of(node, start // size)
        shape = (stop - start,) if node.channels == 1 else (stop - start, 2)
        out = np.zeros(shape, np.float32)
        for number in range(max(start, 0) // size, max(-(-stop // size), 0)):
            first, last = max(number * size, start), min((number + 1) * size, stop)
            if first < last:
                tile = tile_of(node, number)
                out[first - start : last - start] = tile[
                    first - number * size : last - number * size
                ]
        return out

    def scan(self, node: Node, start: int, stop: int) -> Audio:
        """`read` for one pass over the song: what it renders is not remembered, so that it does
        not drive out what is being listened to."""
        if isinstance(node, Processed):
            return self.read(node, start, stop)
        return self._render_span(node, start, stop)

    def tile(self, node: Node, number: int) -> Audio:
        """One whole tile of a node. Shared with the cache: never written to."""
        if node.is_cheap:
            return self._render_span(node, number * self.tile_frames,
                                     (number + 1) * self.tile_frames)  # fmt: skip
        if number * self.tile_frames >= self.frames + self.rate // 2:
            # Half a second past the end for what is delayed or rings out; beyond all is silence.
            size = self.tile_frames
            return np.zeros(size if node.channels == 1 else (size, 2), np.float32)
        key = f"{node.key}-{self.rate}-{TILE_S}s-{number}"
        found = self.cache.get(key, node.keeps_on_disk)
        if found is not None:
            return found
        with self.cache.building(key):
            found = self.cache.get(key)
            if found is None:
                found = self._render_tile(node, number)
                self.cache.put(key, found, node.keeps_on_disk and self._keeps)
        return found

    def track(self, key: str, compute: Callable[[], NDArray[np.float64]]) -> NDArray[np.float64]:
        """A decision about the whole song, made once."""
        key = f"{key}-{self.rate}-track"
        found = self.cache.get(key, on_disk=True)
        if found is None:
            with self.cache.building(key):
                found = self.cache.get(key)
                if found is None:
                    found = compute()
                    self.cache.put(key, found, on_disk=self._keeps)
        return found

    def _source(self, sources: Memory, node: File, number: int) -> Audio:
        key = f"{node.key}-{self.rate}-{TILE_S}s-{number}"
        found = sources.get(key)
        if found is None:
            found = self._files.read(node, number * self.tile_frames,
                                     (number + 1) * self.tile_frames)  # fmt: skip
            sources.put(key, found)
        return found

    def _render_tile(self, node: Node, number: int) -> Audio:
        start, stop = number * self.tile_frames, (number + 1) * self.tile_frames
        if isinstance(node, Processed):
            return self._process(node, number)
        return self._render_span(node, start, stop)

    def _render_span(self, node: Node, start: int, stop: int) -> Audio:
        if isinstance(node, File):
            return self._files.read(node, start, stop)
        return node.render(self, start, stop)

    def _process(self, node: Processed, number: int) -> Audio:
        processor = node.processor
        size, latency = self.tile_frames, processor.latency
        start = number * size
        lead = 0
        if number % BORDER:
            state = self._state_between(node, number)
        elif processor.memory <= FORGETS_WITHIN_S * self.rate:
            lead, state = min(processor.memory, start) + latency, processor.at_rest(node.channels)
        else:
            state = self._state_at(node, number)
        out = self._run(node, start + latency - lead, start + latency + size, state)
        np.clip(out, -LOUDEST, LOUDEST, out=out)
        self._keep_state(node, number + 1, state)
        return np.ascontiguousarray(out[lead:])

    def _run(self, node: Processed, start: int, stop: int, state: NDArray[np.float64]) -> Audio:
        """A processor over a span of its input, and of what it listens to."""
        sound = np.ascontiguousarray(self.read(node.source, start, stop))
        if node.listens is None:
            return node.processor.run(sound, state)
        heard = np.ascontiguousarray(self.read(node.listens, start, stop))
        return node.processor.run(sound, state, heard)  # type: ignore[call-arg]

    def _state_between(self, node: Processed, number: int) -> NDArray[np.float64]:
        """The state that the tile before has left."""
        key = self._state_key(node, number)
        found = self.cache.get(key)
        if found is None:
            self.tile(node, number - 1)
            found = self.cache.get(key)
        if found is None:  # its sound was remembered, its state was not
            self._process(node, number - 1)
            found = self.cache.get(key)
            assert found is not None
        return np.array(found, np.float64)

    def _state_at(self, node: Processed, number: int) -> NDArray[np.float64]:
        """The state at a border: stored, or run up to from the last one stored."""
        known = number
        while known > 0:
            found = self.cache.get(self._state_key(node, known), on_disk=True)
            if found is not None:
                break
            known -= BORDER
        if known == 0:
            state = node.processor.at_rest(node.channels)
            # The first tile's output begins latency samples into the stream.
            if node.processor.latency:
                self._run(node, 0, node.processor.latency, state)
        else:
            state = np.array(found, np.float64)
        for passed in range(known, number):
            at = passed * self.tile_frames + node.processor.latency
            self._run(node, at, at + self.tile_frames, state)
            self._keep_state(node, passed + 1, state)
        return state

    def _keep_state(self, node: Processed, number: int, state: NDArray[np.float64]) -> None:
        on_disk = self._keeps and number % BORDER == 0
        self.cache.put(self._state_key(node, number), state.copy(), on_disk)

    def _state_key(self, node: Processed, number: int) -> str:
        return f"{node.key}-{self.rate}-{TILE_S}s-state-{number}"


class _OpenFiles:
    """Sound files held open, one handle a thread, since a handle has one place in its file."""

    def __init__(self) -> None:
        self._local = threading.local()

    def read(self, node: File, start: int, stop: int) -> Audio:
        readers: dict[Path, SoundFileReader] = self._local.__dict__.setdefault("readers", {})
        reader = readers.get(node.path)
        if reader is None:
            if len(readers) > 64:
                readers.pop(next(iter(readers))).close()
            reader = readers[node.path] = SoundFileReader(node.path, node.name)
        return pick_channel(reader.read(start, stop), node.pick)
