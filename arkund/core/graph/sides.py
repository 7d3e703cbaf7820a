"""Nodes of two inputs: left and right, one side of a pair, a difference."""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from arkund.core.graph.nodes import Node, Reader, key_of
from arkund.core.once import once
from arkund.core.process.stage import Audio


@dataclass(frozen=True)
class Pair(Node):
    """Left and right as two sides of one sound."""

    passes_on: ClassVar[bool] = True
    left: Node
    right: Node

    @once
    def key(self) -> str:
        return key_of("pair", 1, self.left.key, self.right.key)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        return key_of("pair", 1, *(reader.over(n, start, stop) for n in (self.left, self.right)))

    @property
    def channels(self) -> int:
        return 2

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        sides = [reader.read(node, start, stop) for node in (self.left, self.right)]
        return np.stack(sides, axis=1)


@dataclass(frozen=True)
class Side(Node):
    """One side of a pair's sound: 0 left, 1 right."""

    passes_on: ClassVar[bool] = True
    source: Node
    side: int

    @once
    def key(self) -> str:
        return key_of("side", 1, self.source.key, self.side)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        return key_of("side", 1, reader.over(self.source, start, stop), self.side)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        return np.ascontiguousarray(reader.read(self.source, start, stop)[:, self.side])


@dataclass(frozen=True)
class Difference(Node):
    """One node less another: what a process took away."""

    passes_on: ClassVar[bool] = True
    whole: Node
    rest: Node

    @once
    def key(self) -> str:
        return key_of("difference", 1, self.whole.key, self.rest.key)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        both = (reader.over(node, start, stop) for node in (self.whole, self.rest))
        return key_of("difference", 1, *both)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        return reader.read(self.whole, start, stop) - reader.read(self.rest, start, stop)
