"""A chain as a node: processors one after the other, run in one pass.

Processors remember, so a chain carries a state from piece to piece; where it begins and how its pieces
follow each other is the business of stretches (`core/render/stretches.py`).
"""

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import LOUDEST, Node, Reader, key_of, silence_broken
from arkund.core.graph.settling import ALONE, Settling
from arkund.core.once import once
from arkund.core.process.stage import Audio, Processor


@dataclass(frozen=True)
class Link:
    """One processor of a chain; its detector hears the ``listens`` node where there is one, else what
    it is given, either ``through`` filters where there are some."""

    processor: Processor
    listens: Node | None = None
    through: Processor | None = None

    @property
    def row(self) -> list[Processor]:
        """The filters, then the processor."""
        return [self.through, self.processor] if self.through else [self.processor]

    def at_rest(self, channels: int) -> NDArray[np.float64]:
        """The state of the processor at rest, and behind it that of the filters."""
        states = [self.processor.at_rest(channels).ravel()]
        if self.through:
            heard = self.listens.channels if self.listens else channels
            states.append(self.through.at_rest(heard).ravel())
        return np.concatenate(states)


@dataclass(frozen=True)
class Processed(Node):
    """Processors one after the other on an input, run in one pass, their latency taken off again."""

    source: Node
    links: tuple[Link, ...]
    dear: bool = False
    behind: Settling = ALONE
    """The processors behind it that hear it."""

    @once
    def key(self) -> str:
        return key_of("processed", 3, self.source.key, self.settings, self.behind)

    @once
    def settings(self) -> list[Any]:
        """What the processors do, and the keys of what they listen to."""
        return [
            [[one.settings() for one in link.row], link.listens.key if link.listens else ""]
            for link in self.links
        ]

    @once
    def latency(self) -> int:
        """Samples by which the chain's output is behind its input."""
        return sum(link.processor.latency for link in self.links)

    @once
    def leads(self) -> list[int]:
        """Samples before a stretch at which each processor sets in, so that what is heard at the end
        of the way is right within -60 dBFS from the stretch's beginning on."""
        return [self.behind.after(row_of(self.links[n:])).lead for n in range(len(self.links))]

    @property
    def channels(self) -> int:
        return self.source.channels

    @property
    def keeps_on_disk(self) -> bool:
        return self.dear

    def begin(
        self, reader: Reader, begins: Sequence[int], start: int, stop: int
    ) -> tuple[Audio, NDArray[np.float64]]:
        """The samples ``start`` to ``stop`` of a chain whose processors are at rest at ``begins``, and
        the state that it is left in."""
        state = np.concatenate([link.at_rest(self.channels) for link in self.links])
        out = self._run(reader, begins[0], stop + self.latency, state, begins)
        return np.ascontiguousarray(out[len(out) - (stop - start) :]), state

    def run(self, reader: Reader, start: int, stop: int, state: NDArray[np.float64]) -> Audio:
        """All processors over the input's samples ``start`` to ``stop``; what comes out, ``(frames,)`` or
        ``(frames, 2)``, belongs `latency` samples earlier. ``state`` is carried on."""
        return self._run(reader, start, stop, state, [start] * len(self.links))

    def _run(
        self,
        reader: Reader,
        start: int,
        stop: int,
        state: NDArray[np.float64],
        begins: Sequence[int],
    ) -> Audio:
        sound = np.ascontiguousarray(reader.read(self.source, start, stop))
        place, behind = 0, 0

        def own(processor: Processor, channels: int) -> NDArray[np.float64]:
            nonlocal place
            shape = processor.at_rest(channels).shape
            begin, place = place, place + math.prod(shape)
            return state[begin:place].reshape(shape)

        for n, link in enumerate(self.links):
            if begins[n] > start:
                sound = sound[max(len(sound) - (stop - begins[n] - behind), 0) :]
            its = own(link.processor, self.channels)
            heard, first = sound, stop - len(sound) - behind
            if link.listens is not None:
                heard = np.ascontiguousarray(reader.read(link.listens, first, stop - behind))
            if link.through is not None:
                sides = 1 if heard.ndim == 1 else 2
                heard = link.through.run(heard, own(link.through, sides), at=first)
            key = None if heard is sound else heard
            sound = link.processor.run(sound, its, key, first)
            loudest = max(sound.max(initial=0.0), -sound.min(initial=0.0))
            # A state that holds a NaN never loses it, and NaN is not less than anything.
            if not loudest <= LOUDEST or not np.isfinite(its.sum()):
                sound = self._bounded(reader, n, sound, first, its)
            behind += link.processor.latency
        return sound

    def _bounded(
        self, reader: Reader, number: int, sound: Audio, start: int, state: NDArray[np.float64]
    ) -> Audio:
        """What a processor gave, held below `LOUDEST`; where it is not a number silent, and the
        processor at rest again."""
        sound = np.array(sound)
        broken = silence_broken(sound)
        if not np.isfinite(state).all():
            state[...] = self.links[number].processor.at_rest(self.channels)
            broken = len(sound) if broken is None else broken
        if broken is not None:
            reader.note_broken(self, number, start + broken)
        return np.clip(sound, -LOUDEST, LOUDEST)


def row_of(links: Sequence[Link]) -> list[Processor]:
    """All processors of links, in a row."""
    return [one for link in links for one in link.row]
