"""Rendering: any node, any span.

Processors remember, so a chain's sound depends on where the chain began. What is rendered in one go
is a stretch (`core/render/stretches.py`), and there are three families of them:

* *exact*: one stretch, the whole song, from its first sample on. Prints are made of it, and so is
  any sound that is written to a file;
* *early*: stretches of a few seconds that all begin anew, each so much earlier that it is right
  within -60 dBFS. What is listened to and looked at in the application is made of these, so that a
  change at the song's end is heard as soon as one at its start;
* *only*: some parts of the song, each as if there were no more of it.

Within a family a sample is always the same, whoever asks for it and in whichever order."""

import threading
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from contextlib import contextmanager
from copy import copy

import numpy as np
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.graph.chains import Processed
from arkund.core.graph.memory import Memory
from arkund.core.graph.nodes import File, Node
from arkund.core.graph.summing import Mixed
from arkund.core.process.stage import Audio
from arkund.core.render.cache import Broken, TileCache
from arkund.core.render.open_files import OpenFiles
from arkund.core.render.stream import Stream
from arkund.core.render.stretches import Glance, Part, Stretch, Sums, fit, joined

TILE_S, STRETCH_S = 1, 4
"""A piece of a stretch, short enough for the first sound after a change to be there at once; and an
early stretch, before which nothing is waited for."""

AHEAD = 8
"""Pieces that are rendered at a time where more are asked for: few enough to be still in memory when
they are read."""


class GivenUp(ArkundError):
    """Nobody waits any more for what was being rendered."""

    def __init__(self) -> None:
        super().__init__("Rendering was stopped, since nobody waits for it any more.")


def _never() -> bool:
    return False


class Engine:
    """Renders nodes of songs of one rate and length, exact unless it is ``early``. Safe among
    threads.

    With ``sources`` it remembers there what it reads from files and what moved hits make of
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
        self.rate, self.frames, self.cache, self.keeps = rate, frames, cache, keeps
        self.tile_frames = TILE_S * rate
        self._early = early
        self._sources = sources
        self._whole: Engine | None = None
        self._files = OpenFiles()
        self._reading = threading.local()
        self._is_given_up: Callable[[], bool] = _never
        self._parts: list[Stretch] | None = None
        self._stretches: dict[int, Stretch] = {}

    @property
    def family(self) -> str:
        """Names what is the same sound for the same node."""
        return f"{self.rate} {self._early} {[(s.start, s.stop) for s in self._parts or ()]}"

    def passing(self) -> "Engine":
        """The same engine for what is only tried: nothing that it renders goes to disk."""
        other = self._copy()
        other.keeps = False
        return other

    def only(self, spans: Iterable[tuple[int, int]]) -> "Engine":
        """The same engine for parts of the song, as if there were no more of it: chains are at rest
        where a part begins, and outside of the tiles of ``spans`` (in samples) all is silent.
        What is decided over the whole song is decided over all of it."""
        size, other = self.tile_frames, self._copy()
        numbers = sorted({n for a, b in spans for n in range(a // size, -(-b // size))})
        begins = [n for n in numbers if n - 1 not in numbers]
        ends = [n + 1 for n in numbers if n + 1 not in numbers]
        other._whole = self._whole or self
        other._parts = [
            Stretch(other, a * size, b * size, alone=True)
            for a, b in zip(begins, ends, strict=True)
        ]
        return other

    def at_once(self, start: int, stop: int) -> "Engine":
        """The same early engine for the samples that are wanted before all others, no more than a piece:
        they are rendered without what lies before them in their stretch (`Glance`), and for this
        once; the same engine where they lie in two stretches."""
        length = STRETCH_S * self.rate
        number = max(start, 0) // length
        is_short = stop - start <= self.tile_frames and stop <= (number + 1) * length
        if not self._early or self._parts is not None or not is_short:
            return self
        other = self._copy()
        other._parts = [Glance(self, start, stop, alone=False, long=self._stretch(number))]
        return other

    def stream(self) -> "Engine":
        """The same engine for who reads the whole exact song once, piece after piece, as a print does."""
        other = self._copy()
        other._early, other._sources, other._whole = False, None, self.exact
        other._parts = [Stream(other, 0, None, alone=True)]
        return other

    @property
    def exact(self) -> "Engine":
        """The same engine on exact sound of the whole song."""
        if not self._early and self._parts is None:
            return self
        other = self._copy()
        other._early, other._parts, other._whole = False, None, None
        return other

    def _copy(self) -> "Engine":
        other = copy(self)
        other._stretches = {}
        return other

    def read(self, node: Node, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` of a node: ``(frames,)`` or ``(frames, 2)``, not to be
        written to; silence before the song's start."""
        if stop - start > AHEAD * self.tile_frames and isinstance(node, Mixed):
            return self._in_blocks(node, start, stop)
        within = list(self._within(start, stop))
        if len(within) == 1 and within[0][1:] == (start, stop):
            return within[0][0].read(node, start, stop)
        return joined(self.parts(node, start, stop), node, start, stop)

    def parts(self, node: Node, start: int, stop: int) -> list[Part]:
        """`read` as what is there: sounds, each with the sample at which it begins; between them it is
        silent."""
        return [
            part
            for stretch, first, last in self._within(start, stop)
            for part in stretch.parts(node, first, last)
        ]

    def _in_blocks(self, node: Node, start: int, stop: int) -> Audio:
        """A sum over a long span, some seconds at a time: what it adds up is forgotten on the way."""
        out = np.empty((stop - start, 2)[: node.channels], np.float32)
        size = AHEAD * self.tile_frames
        for first in range(start, stop, size):
            last = min(first + size, stop)
            out[first - start : last - start] = self.read(node, first, last)
        return out

    def unless(self, is_given_up: Callable[[], bool]) -> "Engine":
        """The same engine for who may stop waiting: it raises `GivenUp` at the next piece then."""
        other = self._copy()
        other._is_given_up = is_given_up
        return other

    def go_on(self) -> None:
        """Raises `GivenUp` where nobody waits for what is being rendered."""
        if self._is_given_up():
            raise GivenUp

    @contextmanager
    def one_read(self) -> Iterator[Sums]:
        """While a thread reads a sum, the sums that it has added up for it."""
        known: Sums | None = getattr(self._reading, "sums", None)
        if known is not None:
            yield known
            return
        self.go_on()
        self._reading.sums = {}
        try:
            yield self._reading.sums
        finally:
            self._reading.sums = None

    def tile(self, node: Node, number: int) -> Audio:
        """One tile of `TILE_S` seconds."""
        return self.read(node, number * self.tile_frames, (number + 1) * self.tile_frames)

    def read_apart(self, node: Node, start: int, stop: int) -> Audio:
        """`read` on two cores: both halves of a long span at once, parted where early chains begin
        anew."""
        border = STRETCH_S * self.rate
        middle = (start + stop) // 2 // border * border
        if not start < middle < stop:
            return self.read(node, start, stop)
        with ThreadPoolExecutor(2) as pool:
            halves = pool.map(
                lambda span: self.read(node, *span), [(start, middle), (middle, stop)]
            )
            return np.concatenate(list(halves))

    def ahead(
        self,
        levels: Sequence[Sequence[Processed]],
        spans: Iterable[tuple[int, int]],
        pool: Executor,
        last: Sequence[Processed] = (),
    ) -> None:
        """Render chains over spans on a pool of threads, so that what is read next is there. Levels are
        in the order in which they feed each other (`Graph.levels`); they are rendered some seconds
        of the song at a time. Where only the ``last`` behind them are read next, nothing is rendered
        for what these have already, and they are rendered while the others go on."""
        pieces = [
            (stretch, number)
            for span in spans
            for stretch, start, stop in self._within(*span)
            for number in stretch.numbers(start, stop)
            if not last or not all(stretch.has(node, [number]) for node in last)
        ]
        running: dict[tuple[Stretch, str], Future[None]] = {}
        for begin in range(0, len(pieces), AHEAD):
            some = pieces[begin : begin + AHEAD]
            for level in levels:
                # What is there already is told here: two threads would wait for each other to look.
                missing = [
                    each for each in _each(some, level) if not each[0].has(each[2], [each[1]])
                ]
                run = pool.map if len(missing) > 1 else map
                list(run(lambda one: one[0].piece(one[2], one[1]), missing))
            numbers: dict[Stretch, list[int]] = {}
            for stretch, number in some:
                numbers.setdefault(stretch, []).append(number)
            for stretch, own in numbers.items():
                for node in last:
                    # A chain's next piece waits for the one before it.
                    if before := running.get((stretch, node.key)):
                        before.result()
                    running[stretch, node.key] = pool.submit(_pieces, stretch, node, own)
        for each in running.values():
            each.result()

    def track(
        self, key: str, compute: Callable[["Engine"], NDArray[np.float64]]
    ) -> NDArray[np.float64]:
        """A decision about the whole song, made once, on exact sound: so it is the same for what is
        heard and for what is printed."""
        key = f"{key} {self.rate} track"
        found = self.cache.get(key, on_disk=True)
        if found is None:
            with self.cache.building(key):
                found = self.cache.get(key)
                if found is None:
                    found = compute(self.exact)
                    self.cache.put(key, found, on_disk=self.keeps)
        return found

    def note_broken(self, node: Node, link: int, at: int) -> None:
        """Note that a node's sound is not a number (`TileCache.broken`)."""
        self.cache.mark_broken(node.key, Broken(link, at))

    def over(self, node: Node, start: int, stop: int) -> str:
        """Hash of what is heard of a node between two samples (`Node.key_over`)."""
        return " ".join(
            stretch.over(node, first, last) for stretch, first, last in self._within(start, stop)
        )

    def source(self, node: Node, start: int, stop: int) -> Audio:
        """`read` of what is remembered in parts (`Node.kept_s`)."""
        if self._sources is None and isinstance(node, File):
            return fit(self.cache, node, self._files.read(node, start, stop), start)
        # What moved hits are made of may have heard a chain (hum taken away).
        whole, memory = self._whole or self, self._sources or self.cache
        size = round(node.kept_s * self.rate)
        out = np.zeros((stop - start, 2)[: node.channels], np.float32)
        for number in range(max(start, 0) // size, max(-(-stop // size), 0)):
            low, high = number * size, (number + 1) * size
            key = f"{whole.over(node, low, high)} {low} {high}"
            tile = memory.get(key)
            if tile is None:
                tile = (
                    self._files.read(node, low, high)
                    if isinstance(node, File)
                    else node.render(whole, low, high)
                )
                tile = fit(self.cache, node, tile, low)
                memory.put(key, tile)
            if (low, high) == (start, stop):
                return tile
            first, last = max(low, start), min(high, stop)
            out[first - start : last - start] = tile[first - low : last - low]
        return out

    def _within(self, start: int, stop: int) -> Iterator[tuple[Stretch, int, int]]:
        """The stretches that hold a span, each with what it holds of it."""
        if self._parts is not None:
            found = self._parts
        elif not self._early:
            found = [self._exact]
        else:
            size = STRETCH_S * self.rate
            numbers = range(max(start, 0) // size, max(-(-stop // size), 0))
            found = [self._stretch(number) for number in numbers]
        for stretch in found:
            first = max(start, stretch.start)
            last = stop if stretch.stop is None else min(stop, stretch.stop)
            if first < last:
                yield stretch, first, last

    def _stretch(self, number: int) -> Stretch:
        size = STRETCH_S * self.rate
        return self._kept(number, number * size, (number + 1) * size)

    @property
    def _exact(self) -> Stretch:
        return self._kept(-1, 0, None)

    def _kept(self, number: int, start: int, stop: int | None) -> Stretch:
        """A stretch by its number, -1 for the whole song."""
        found = self._stretches.get(number)
        if found is None:
            made = Stretch(self, start, stop, alone=number < 0)
            found = self._stretches.setdefault(number, made)
        return found


def _pieces(stretch: Stretch, node: Processed, numbers: Sequence[int]) -> None:
    for number in numbers:
        stretch.piece(node, number)


def _each(
    pieces: Sequence[tuple[Stretch, int]], nodes: Sequence[Processed]
) -> Iterator[tuple[Stretch, int, Processed]]:
    for stretch, number in pieces:
        for node in nodes:
            yield stretch, number, node
