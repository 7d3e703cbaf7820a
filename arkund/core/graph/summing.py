"""Nodes that add others up: sums with a gain to each side, and versions that follow each other."""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from arkund.core.graph.adding import add_mono, add_stereo, rounded, spread
from arkund.core.graph.nodes import FILE_S, LOUDEST, Node, Reader, key_of
from arkund.core.once import once
from arkund.core.process.stage import Audio

Input = tuple[Node, float, float]
"""A node with its gains to the left and to the right."""


@dataclass(frozen=True)
class Mixed(Node):
    """A stereo sum: each input with its gain to the left and to the right.

    Added in float64 and rounded once, in an order that depends on what is added alone. Where one
    version of an input that differs over bars is heard alone, it is added as if there were no other:
    so a difference leaves the tiles beyond it as they were.
    """

    passes_on: ClassVar[bool] = True
    inputs: tuple[Input, ...]

    @once
    def key(self) -> str:
        return key_of("mixed", 1, [(node.key, left, right) for node, left, right in self.inputs])

    def _heard(self, reader: Reader, start: int, stop: int) -> list[tuple[str, Input]]:
        """What is added between two samples, with its key there, in order."""
        heard = [one for given in self.inputs for one in _alone(given, start, stop)]
        return sorted(
            ((reader.over(one[0], start, stop), one) for one in heard),
            key=lambda keyed: (keyed[0], *keyed[1][1:]),
        )

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        heard = self._heard(reader, start, stop)
        if len(heard) == 1 and _is_as_it_is(heard[0][1]):
            return heard[0][0]
        return key_of("mixed", 1, [(key, left, right) for key, (_, left, right) in heard])

    @property
    def channels(self) -> int:
        return 2

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        inputs = [one for _, one in self._heard(reader, start, stop)]
        if len(inputs) == 1:
            return _alone_in_the_sum(reader, inputs[0], start, stop)
        total = np.zeros((stop - start, 2))
        for node, left, right in inputs:
            add = add_mono if node.channels == 1 else add_stereo
            for at, sound in reader.parts(node, start, stop):
                add(total[at - start :], np.ascontiguousarray(sound), left, right)
        out = np.empty((stop - start, 2), np.float32)
        rounded(total, np.float64(LOUDEST), out)
        return out


@dataclass(frozen=True)
class Shared(Mixed):
    """A sum that several channels may hear: remembered while one read lasts. (Buses without a chain
    that take from all buses before them would be added up anew along every way to them.)"""


@dataclass(frozen=True)
class Guiding(Mixed):
    """A sum that is looked at again and again, a little at a time, and so remembered in parts."""

    @property
    def kept_s(self) -> float:
        return FILE_S


def _alone_in_the_sum(reader: Reader, given: Input, start: int, stop: int) -> Audio:
    """What one input alone sums up to."""
    node, left, right = given
    sound = np.ascontiguousarray(reader.read(node, start, stop))
    if _is_as_it_is(given):
        return sound
    out = np.empty((stop - start, 2), np.float32)
    if node.channels == 1:
        spread(sound, left, right, np.float64(LOUDEST), out)
        return out
    total = np.zeros((stop - start, 2))
    add_stereo(total, sound, left, right)
    rounded(total, np.float64(LOUDEST), out)
    return out


def _is_as_it_is(given: Input) -> bool:
    """Whether an input alone is the sum."""
    return given[0].channels == 2 and given[1:] == (1.0, 1.0)


def _alone(given: Input, start: int, stop: int) -> list[Input]:
    """An input; of one that differs over bars the version that is heard alone, and what that is a
    sum of."""
    node, left, right = given
    if not isinstance(node, Varied):
        return [given]
    within = node.within(start, stop)
    if len(within) > 1:
        return [given]
    node = within[0][2]
    inner: list[Input] = [(node, left, right)]
    while len(inner) == 1 and isinstance(node, Mixed):
        _, left, right = inner[0]
        inner = [(one, left * a, right * b) for one, a, b in node.inputs]
        node = inner[0][0] if inner else node
    return [one for each in inner if any(each[1:]) for one in _alone(each, start, stop)]


@dataclass(frozen=True)
class Varied(Node):
    """One node after the other: ``parts`` are (from which sample on, samples of the fade into it,
    node). Both sides of a fade run all the while."""

    passes_on: ClassVar[bool] = True
    parts: tuple[tuple[int, int, Node], ...]

    @once
    def key(self) -> str:
        return key_of("varied", 1, [(at, ramp, node.key) for at, ramp, node in self.parts])

    @property
    def channels(self) -> int:
        return self.parts[0][2].channels

    def within(self, start: int, stop: int) -> list[tuple[int, int, Node]]:
        """The parts that are heard between two samples, in order; the first is there from ever."""
        begins = [start - 1, *(at for at, _, _ in self.parts[1:])]
        ends = [*(at + ramp for at, ramp, _ in self.parts[1:]), stop + 1]
        heard = zip(begins, ends, self.parts, strict=True)
        return [part for begin, end, part in heard if begin < max(stop, start + 1) and start < end]

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        parts = self.within(start, stop)
        heard = [(at, ramp, reader.over(node, start, stop)) for at, ramp, node in parts]
        if len(heard) == 1:
            return heard[0][2]  # what is heard of one version alone is that version's
        return key_of("varied", 1, heard)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        parts = self.within(start, stop)
        # Each is read as long as it is heard: until the one after it has come in.
        ends = [*(min(at + ramp, stop) for at, ramp, _ in parts[1:]), stop]
        out: Audio = np.zeros((stop - start, 2)[: self.channels], np.float32)
        for number, ((at, ramp, node), end) in enumerate(zip(parts, ends, strict=True)):
            begin = max(at, start) if number else start
            come = min(max(at + ramp, begin), end) if number else start
            if begin >= end:
                continue
            sound = reader.read(node, begin, end)
            rise = np.clip((np.arange(begin, come) - at + 1) / max(ramp, 1), 0, 1)
            share = rise.astype(np.float32).reshape(-1, *[1] * (sound.ndim - 1))
            fade = out[begin - start : come - start]
            fade += (sound[: come - begin] - fade) * share
            out[come - start : end - start] = sound[come - begin :]
        return out


def pan_gains(pan: float) -> tuple[float, float]:
    """Constant power: −3 dB to both sides at the centre, 0 dB to one at its end."""
    angle = (pan + 1) * np.pi / 4
    left, right = float(np.cos(angle)), float(np.sin(angle))
    return (left if left > 1e-9 else 0.0, right if right > 1e-9 else 0.0)
