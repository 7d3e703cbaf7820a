"""Rendering: any node, any span.

The unit is the tile of `TILE_S` seconds, named by what is heard in it. Processors remember, so
there are two families of tiles:

* *exact*: a chain runs from the song's first sample on, each tile from the state that the one
  before has left. Prints are made of these, and so is any sound that is written to a file;
* *early*: at every `BORDER`th tile a chain begins anew, at rest, so much earlier that it is right
  within -60 dBFS (`Processed.lead`); in between it goes on from the tile before. What is listened
  to and looked at in the application is made of these, so that a change at the song's end is heard
  as soon as one at its start.

Within a family a tile is always the same samples, whoever asks for it and in whichever order.
"""

import threading
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from copy import copy
from functools import partial
from itertools import product
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.audio.files import SoundFileReader, pick_channel
from arkund.core.mix.cache import Memory, TileCache
from arkund.core.mix.nodes import File, Node, Processed, key_of
from arkund.core.process.stage import Audio

TILE_S = 2
"""Short enough for the first sound after a change to be there at once."""

BORDER = 2
"""Early chains begin anew every so many tiles: what comes before a border is never waited for."""


STRIDE = 16
"""Tiles whose names are found in one go."""


class Engine:
    """Renders nodes of songs of one rate and length, exact unless it is ``early``. Safe among
    threads.

    With ``sources`` it remembers there what it reads from files and what moved strokes make of
    it, which pays where the same bars are rendered again and again. Unless it ``keeps``, what it
    renders goes to memory alone.
    """

    def __init__(
        self,
        rate: int,
        frames: int,
        cache: TileCache,
        *,
        sources: Memory | None = None,
        keeps: bool = True,
        early: bool = False,
    ) -> None:
        self.rate, self.frames, self.cache, self.early = rate, frames, cache, early
        self._sources, self._keeps = sources, keeps
        self._parts: frozenset[int] | None = None
        self._whole: Engine | None = None
        self.tile_frames = TILE_S * rate
        self._files = _OpenFiles()

    def passing(self) -> "Engine":
        """The same engine for what is only tried: nothing that it renders goes to disk."""
        other = copy(self)
        other._keeps = False
        return other

    def only(self, spans: Iterable[tuple[int, int]]) -> "Engine":
        """The same engine for parts of the song, as if there were no more of it: chains are at rest
        where a part begins, and outside of the tiles of ``spans`` (in samples) they are silent.
        What is decided over the whole song is decided over all of it."""
        size, other = self.tile_frames, copy(self)
        other._parts = frozenset(
            n for first, last in spans for n in range(first // size, -(-last // size))
        )
        other._whole, other.early = self._whole or self, True
        return other

    def read(self, node: Node, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` of a node: ``(frames,)`` or ``(frames, 2)``, not to be
        written to; silence before the song's start."""
        if node.is_source and self._sources is not None:
            return self._gather(node, start, stop, partial(self._source, self._sources))
        if node.is_cheap:
            return self._render_span(node, start, stop)
        return self._gather(node, start, stop, self.tile)

    def read_apart(self, node: Node, start: int, stop: int) -> Audio:
        """`read` on two cores: both halves of a long span at once, parted where early chains begin
        anew."""
        border = BORDER * self.tile_frames
        middle = (start + stop) // 2 // border * border
        if not start < middle < stop:
            return self.read(node, start, stop)
        with ThreadPoolExecutor(2) as pool:
            halves = pool.map(
                lambda span: self.read(node, *span), [(start, middle), (middle, stop)]
            )
            return np.concatenate(list(halves))

    def ahead(self, levels: Iterable[Sequence[Node]], tiles: Sequence[int], pool: Executor) -> None:
        """Render tiles of chains on a pool of threads, level by level, so that what is read next is
        there. Levels are in the order in which they feed each other (`Graph.levels`)."""
        for level in levels:
            dear = [node for node in level if isinstance(node, Processed)]
            # A chain's next tile waits for the one before it; the next chain does not.
            list(pool.map(lambda one: self.tile(one[1], one[0]), product(tiles, dear)))

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
            return self.read(node, number * self.tile_frames, (number + 1) * self.tile_frames)
        if self._is_silent(number):
            size = self.tile_frames
            return np.zeros(size if node.channels == 1 else (size, 2), np.float32)
        key = self._tile_key(node, number)
        found = self.cache.get(key, node.keeps_on_disk)
        if found is not None:
            return found
        with self.cache.building(key):
            found = self.cache.get(key)
            if found is None:
                found = self._render_tile(node, number)
                self.cache.put(key, found, node.keeps_on_disk and self._keeps)
        return found

    def track(
        self, key: str, compute: Callable[["Engine"], NDArray[np.float64]]
    ) -> NDArray[np.float64]:
        """A decision about the whole song, made once."""
        if self._whole is not None:
            return self._whole.track(key, compute)
        key = f"{key}-{self._family}-track"
        found = self.cache.get(key, on_disk=True)
        if found is None:
            with self.cache.building(key):
                found = self.cache.get(key)
                if found is None:
                    found = compute(self)
                    self.cache.put(key, found, on_disk=self._keeps)
        return found

    def over(self, node: Node, start: int, stop: int) -> str:
        """Hash of what is heard of a node between two samples (`Node.key_over`)."""

        def find() -> str:
            if isinstance(node, Processed):
                size = self.tile_frames
                numbers = range(max(start, 0) // size, max(-(-stop // size), 0))
                return key_of("tiles", [self._tile_key(node, n) for n in numbers])
            return node.key_over(self, start, stop)

        return self.cache.keys.get((self._family, node.key, start, stop), find)

    @property
    def _family(self) -> str:
        family = f"{self.rate}-{TILE_S}s-{'early' if self.early else 'exact'}"
        return family if self._parts is None else f"{family}-{sorted(self._parts)}"

    def _is_silent(self, number: int) -> bool:
        """Whether nothing is to be heard in a tile: outside of the parts, or more than half a
        second (for what is delayed or rings out) past the song's end."""
        if self._parts is not None and number not in self._parts:
            return True
        return number * self.tile_frames >= self.frames + self.rate // 2

    def _tile_key(self, node: Node, number: int) -> str:
        """Name of a tile."""
        if self._parts is not None and number not in self._parts:
            return "silence"
        start, stop = number * self.tile_frames, (number + 1) * self.tile_frames
        if isinstance(node, Processed):
            return f"{self._heard_by(node, number)}-{number}"
        return f"{self.over(node, start, stop)}-{self._family}-{number}"

    def _heard_by(self, node: Processed, number: int) -> str:
        """Hash of all that a chain has heard when a tile of it is done: since the song's start, or
        since it began before the tile's border."""

        def find() -> str:
            start, stop = number * self.tile_frames, (number + 1) * self.tile_frames
            before = ""
            if self.early:
                start = self._begins(node, number)
            elif number:
                # In strides, since each asks for the one before.
                for passed in range(STRIDE, number, STRIDE):
                    self._heard_by(node, passed)
                before = self._heard_by(node, number - 1)
            inputs = (node.source, *(link.listens for link in node.links if link.listens))
            heard = [self.over(one, start, stop + node.latency) for one in inputs]
            alone = [link.processor.settings() for link in node.links]
            return key_of("heard", self._family, before, alone, heard)

        return self.cache.keys.get((self._family, node.key, number, -1), find)

    def _begins(self, node: Processed, number: int) -> int:
        """The first sample that an early tile of a chain hears."""
        begin = number // BORDER * BORDER * self.tile_frames - node.lead
        if self._parts is None:
            return max(begin, 0)
        while number - 1 in self._parts:
            number -= 1
        return max(begin, number * self.tile_frames)

    def _source(self, sources: Memory, node: Node, number: int) -> Audio:
        start, stop = number * self.tile_frames, (number + 1) * self.tile_frames
        # A file is the same for every engine; what is made of it may have heard chains.
        family = f"{self.rate}-{TILE_S}s" if isinstance(node, File) else self._family
        key = f"{self.over(node, start, stop)}-{family}-{number}"
        found = sources.get(key)
        if found is None:
            found = self._render_span(node, start, stop)
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
        """A tile of a chain, from the state that the tile before has left or from rest."""
        start = number * self.tile_frames
        begin, state = start, None
        if number % BORDER or not self.early:
            state = self._state_before(node, number)
        if state is None:
            begin, state = self._begins(node, number), node.at_rest()
            if node.latency:  # what comes out first belongs before the first sample
                node.run(self, begin, begin + node.latency, state)
        stop = start + self.tile_frames
        out = node.run(self, begin + node.latency, stop + node.latency, state)
        self.cache.put(self._state_key(node, number), state, False)
        return np.ascontiguousarray(out[start - begin :])

    def _state_before(self, node: Processed, number: int) -> NDArray[np.float64] | None:
        """The state that the tile before has left; None before the song's first."""
        known = number - 1
        while known >= 0:
            found = self.cache.get(self._state_key(node, known))
            if found is not None:
                break
            known -= 1
            if self.early and known % BORDER:
                break
        for passed in range(known + 1, number):
            self._process(node, passed)
        if number == 0:
            return None
        found = self.cache.get(self._state_key(node, number - 1))
        assert found is not None
        return np.array(found, np.float64)

    def _state_key(self, node: Processed, number: int) -> str:
        return f"{self._heard_by(node, number)}-state-{number}"


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
