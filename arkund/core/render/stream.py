"""The whole song rendered once, from its first sample to its last: what a print is made of.

Every chain goes straight on from block to block, and nothing is named or remembered beyond the blocks that
a delay may still reach back to: nobody asks for a print's pieces again.
"""

from collections.abc import Iterable
from dataclasses import dataclass, field
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.chains import Processed
from arkund.core.graph.nodes import Node
from arkund.core.process.stage import Audio
from arkund.core.render.stretches import Stretch

REACH = 3
"""Pieces of a chain that are held: delays reach back, and latencies ahead, by less than one."""


@dataclass(eq=False)
class _Running:
    """A chain on its way: the last piece that it made, the state that it is in, and its last pieces."""

    lock: Lock = field(default_factory=Lock)
    number: int = -1
    state: NDArray[np.float64] = field(default_factory=lambda: np.zeros(0))
    pieces: dict[int, Audio] = field(default_factory=dict)


@dataclass(eq=False)
class Stream(Stretch):
    """The stretch of the whole song, for who reads on and never goes far back."""

    def __post_init__(self) -> None:
        super().__post_init__()
        self._chains: dict[str, _Running] = {}

    def over(self, node: Node, start: int, stop: int) -> str:
        """A name to put inputs in order by; nothing of this is remembered under it."""
        return node.key

    def has(self, node: Processed, numbers: Iterable[int]) -> bool:
        """Whether pieces of a chain are there already."""
        running = self._chains.get(node.key)
        return running is not None and all(n in running.pieces for n in numbers)

    def piece(self, node: Processed, number: int) -> Audio:
        """A piece of a chain, made when it is asked for first. Never written to."""
        first, last = self._span(node, number)
        if first >= self.frames + self.rate // 2:  # what is late has rung out
            return np.zeros((last - first, 2)[: node.channels], np.float32)
        running = self._chains.setdefault(node.key, _Running())
        # Chains hear each other one way: who waits here holds none that this one waits for.
        with running.lock:
            while running.number < number:
                self._go_on(node, running)
            found = running.pieces.get(number)
        return self.exact.read(node, first, last) if found is None else found

    def _go_on(self, node: Processed, running: _Running) -> None:
        """Make a chain's next piece."""
        self.around.go_on()
        number = running.number + 1
        first, last = self._span(node, number)
        if number:
            made = node.run(self, first + node.latency, last + node.latency, running.state)
        else:
            made, running.state = node.begin(self, self._begins(node), first, last)
        running.pieces[number], running.number = made, number
        running.pieces.pop(number - REACH, None)
