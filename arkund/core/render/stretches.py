"""A stretch of the song, rendered in one go.

Chains remember, so what a chain gives depends on where it began. In a stretch its processors begin at
rest, so much before the stretch that what is heard at the end of the way is right within -60 dBFS
(`Processed.leads`), and go on from piece to piece. A chain knows who hears it (`Processed.behind`),
and its first piece begins where those need it: so nothing is rendered that nobody hears, and the first
piece of a mix asks of every mic for its first piece alone. What is wanted from the midst of a stretch, and at
once, is a glance.
"""

from collections.abc import Callable, Iterable, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from threading import Lock
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.chains import Processed
from arkund.core.graph.nodes import Node, Reader, key_of, silence_broken
from arkund.core.graph.sides import Side
from arkund.core.graph.summing import Shared
from arkund.core.process.stage import Audio
from arkund.core.render.cache import Broken, TileCache

Part = tuple[int, Audio]
"""Sound, behind the sample at which it begins."""


Sums = dict[tuple[str, str, int, int], Audio]
"""Sums that were added up in the read under way: by stretch, node and span."""


def joined(parts: Sequence[Part], node: Node, start: int, stop: int) -> Audio:
    """Samples ``start`` to ``stop`` of a node from its parts, silent between them; the one part where
    that is all."""
    if len(parts) == 1 and parts[0][0] == start and len(parts[0][1]) == stop - start:
        return parts[0][1]
    out = np.zeros((stop - start,) if node.channels == 1 else (stop - start, 2), np.float32)
    for at, sound in parts:
        out[at - start : at - start + len(sound)] = sound
    return out


def fit(cache: TileCache, node: Node, sound: Audio, start: int) -> Audio:
    """What a node gave, ``(frames,)`` or ``(frames, 2)``, from the sample ``start`` on; silent where that is
    not a number, and noted."""
    if node.passes_on or np.isfinite(sound.sum()):
        return sound
    sound = np.array(sound)
    broken = silence_broken(sound)
    if broken is not None:
        cache.mark_broken(node.key, Broken(-1, start + broken))
    return sound


class Around(Protocol):
    """What a stretch asks of the engine that it belongs to."""

    rate: int
    frames: int
    tile_frames: int
    cache: TileCache
    keeps: bool

    @property
    def exact(self) -> Reader: ...

    def parts(self, node: Node, start: int, stop: int) -> "list[Part]": ...

    def over(self, node: Node, start: int, stop: int) -> str: ...

    def track(
        self, key: str, compute: Callable[[Any], NDArray[np.float64]]
    ) -> NDArray[np.float64]: ...

    def source(self, node: Node, start: int, stop: int) -> Audio: ...

    def one_read(self) -> AbstractContextManager[Sums]: ...

    def go_on(self) -> None: ...


@dataclass(eq=False)
class Stretch:
    """The samples ``start`` to ``stop`` of the song (None: to its end), in pieces.

    One that stands ``alone`` is rendered as if there were no more of the song: chains are at rest
    where it begins, and silent outside of it.
    """

    around: Around
    start: int
    stop: int | None
    alone: bool

    def __post_init__(self) -> None:
        self.rate, self.frames = self.around.rate, self.around.frames
        self._name = f"{self.rate} {self.start} {self.stop} {self.alone}"

    @property
    def exact(self) -> Reader:
        """The whole song on exact sound."""
        return self.around.exact

    def read(self, node: Node, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` of a node as this stretch has them, from before it and from
        after it as the song has them; not to be written to."""
        if node.kept_s:
            return self.around.source(node, start, stop)
        if isinstance(node, Processed):
            return joined(self.parts(node, start, stop), node, start, stop)
        with self.around.one_read() as sums:
            key = (self._name, node.key, start, stop) if isinstance(node, Shared) else None
            found = sums.get(key) if key else None
            if found is None:
                found = fit(self.around.cache, node, node.render(self, start, stop), start)
                if key:
                    sums[key] = found
            return found

    def note_broken(self, node: Node, link: int, at: int) -> None:
        """Note that a node's sound is not a number."""
        self.around.cache.mark_broken(node.key, Broken(link, at))

    def parts(self, node: Node, start: int, stop: int) -> list[Part]:
        """The same as what is there: pieces, each with the sample at which it begins; between them it
        is silent."""
        if isinstance(node, Side):
            both = self.parts(node.source, start, stop)
            return [(at, sound[:, node.side]) for at, sound in both]
        if node.kept_s or not isinstance(node, Processed):
            return [(start, self.read(node, start, stop))]
        numbers, first, last = self._pieces(node, start, stop)
        out: list[Part] = []
        for number in numbers:
            low, high = self._span(node, number)
            a, b = max(low, start), min(high, stop)
            out.append((a, self.piece(node, number)[a - low : b - low]))
        if not self.alone:
            for a, b in ((max(start, 0), first), (last, stop)):
                out += self.around.parts(node, a, b) if a < b else []
        return out

    def over(self, node: Node, start: int, stop: int) -> str:
        """Hash of what is heard of a node between two samples (`Node.key_over`)."""

        def find() -> str:
            if not isinstance(node, Processed):
                return node.key_over(self, start, stop)
            numbers, first, last = self._pieces(node, start, stop)
            parts = [self._named(node, number) for number in numbers]
            if not self.alone:
                for a, b in ((max(start, 0), first), (last, stop)):
                    parts += [self.around.over(node, a, b)] if a < b else []
            return key_of("pieces", parts)

        return self.around.cache.keys.get((self._name, node.key, start, stop), find)

    def track(self, key: str, compute: Callable[[Any], NDArray[np.float64]]) -> NDArray[np.float64]:
        """A decision about the whole song."""
        return self.around.track(key, compute)

    def numbers(self, start: int, stop: int) -> range:
        """The pieces that hold the samples ``start`` to ``stop`` of what is heard."""
        size = self.around.tile_frames
        first, last = max(start, self.start), stop if self.stop is None else min(stop, self.stop)
        return range((first - self.start) // size, max(-(-(last - self.start) // size), 0))

    def numbers_of(self, node: Processed, start: int, stop: int) -> range:
        """The pieces of a chain that hold a span of it."""
        return self._pieces(node, start, stop)[0]

    def piece(self, node: Processed, number: int) -> Audio:
        """A piece of a chain. Shared with the cache: never written to."""
        if self._span(node, number)[0] >= self.frames + self.rate // 2:  # what is late has rung out
            first, last = self._span(node, number)
            return np.zeros(last - first if node.channels == 1 else (last - first, 2), np.float32)
        cache, key = self.around.cache, self._named(node, number)
        found = cache.get(key, node.keeps_on_disk)
        if found is not None:
            return found
        with cache.building(key):
            found = cache.get(key)
            return self._made(node, number) if found is None else found

    def _made(self, node: Processed, number: int) -> Audio:
        """A piece as it is rendered, remembered; to be called while its name is held."""
        made = self._process(node, number)
        keeps = node.keeps_on_disk and self.around.keeps
        self.around.cache.put(self._named(node, number), made, keeps)
        return made

    def has(self, node: Processed, numbers: Iterable[int]) -> bool:
        """Whether pieces of a chain are there already."""
        cache = self.around.cache
        return all(cache.get(self._named(node, n), node.keeps_on_disk) is not None for n in numbers)

    def _heard_around(self, node: Processed) -> tuple[int, int]:
        """How many samples before a stretch and after it a chain is heard."""
        return (0, 0) if self.alone else (node.behind.lead, node.behind.latency)

    def _span(self, node: Processed, number: int) -> tuple[int, int]:
        """The samples of a piece: later by what is heard after the stretch; the first one longer by
        what is heard before it."""
        before, after = self._heard_around(node)
        size = self.around.tile_frames
        begin = self.start + number * size
        stop = begin + size if self.stop is None else min(begin + size, self.stop)
        return (begin + after if number else max(self.start - before, 0)), stop + after

    def _pieces(self, node: Processed, start: int, stop: int) -> tuple[range, int, int]:
        """The pieces of a chain that hold a span, and the samples that they can give of it."""
        before, after = self._heard_around(node)
        size = self.around.tile_frames
        first = max(start, self.start - before, 0)
        last = stop if self.stop is None else min(stop, self.stop + after)
        if first >= last:
            return range(0), stop, stop
        low = max(first - after - self.start, 0) // size
        high = max(-(-(last - after - self.start) // size), low + 1)
        return range(low, high), first, last

    def _named(self, node: Processed, number: int) -> str:
        """Name of a piece: the hash of all that its chain has heard when it is done."""
        keys, of = self.around.cache.keys, f"{self._name} piece"

        def find() -> str:
            begins, before, span = self._begins(node), "", self._span(node, number)
            if number:
                # From the last that is known on, since each asks for the one before.
                known = number - 1
                while known and not keys.has((of, node.key, known, 0)):
                    known -= 1
                for passed in range(known, number - 1):
                    self._named(node, passed)
                begins, before = [span[0]], self._named(node, number - 1)
            inputs = (node.source, *(link.listens for link in node.links if link.listens))
            heard = [self.over(one, begins[0], span[1] + node.latency) for one in inputs]
            # Link by link: a key's filter is no stage of the chain, and who listens is told apart.
            links = [
                [[one.settings() for one in link.row], link.listens is not None]
                for link in node.links
            ]
            return key_of("piece", self.rate, self.alone, begins, span, before, links, heard)

        return keys.get((of, node.key, number, 0), find)

    def _begins(self, node: Processed) -> list[int]:
        """The first sample that each processor of a chain hears."""
        return [self.start if self.alone else max(self.start - lead, 0) for lead in node.leads]

    def _process(self, node: Processed, number: int) -> Audio:
        """A piece, from the state that the one before has left or from rest."""
        self.around.go_on()
        first, last = self._span(node, number)
        if number:
            state = self._state_before(node, number)
            out = node.run(self, first + node.latency, last + node.latency, state)
        else:
            out, state = node.begin(self, self._begins(node), first, last)
        self.around.cache.put(self._named(node, number) + "-state", state, False)
        return out

    def _state_before(self, node: Processed, number: int) -> NDArray[np.float64]:
        """The state that the piece before has left."""
        known = number - 1
        while known > 0 and self._state(node, known) is None:
            known -= 1
        for passed in range(known, number):
            # Who renders it just now leaves the state.
            with self.around.cache.building(self._named(node, passed)):
                if self._state(node, passed) is None:
                    self._made(node, passed)
        found = self._state(node, number - 1)
        assert found is not None
        return np.array(found, np.float64)

    def _state(self, node: Processed, number: int) -> NDArray[np.float64] | None:
        return self.around.cache.get(self._named(node, number) + "-state")


@dataclass(eq=False)
class Glance(Stretch):
    """A piece of the ``long`` stretch that is wanted before all others: what that has not yet is
    rendered with a lead of its own, for this once, instead of from the stretch's start on.
    """

    long: Stretch

    def __post_init__(self) -> None:
        super().__post_init__()
        self._rendered: dict[str, Audio] = {}
        self._turns: dict[str, Lock] = {}

    def over(self, node: Node, start: int, stop: int) -> str:
        """A name to put inputs in order by; nothing of this is remembered under it."""
        return node.key

    def has(self, node: Processed, numbers: Iterable[int]) -> bool:
        """Whether what is wanted of a chain is there already."""
        if node.key in self._rendered:
            return True
        return self.long.has(node, self.long.numbers_of(node, *self._span(node, 0)))

    def piece(self, node: Processed, number: int) -> Audio:
        """The piece of a chain, which is the only one."""
        first, last = self._span(node, number)
        if self.long.has(node, self.long.numbers_of(node, first, last)):
            return self.long.read(node, first, last)
        with self._turns.setdefault(node.key, Lock()):
            found = self._rendered.get(node.key)
            if found is None:
                found, _ = node.begin(self, self._begins(node), first, last)
                self._rendered[node.key] = found
            return found
