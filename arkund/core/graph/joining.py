"""Nodes that put a mic's sound together before anything is done to it: takes joined, hits moved."""

from bisect import bisect_right
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import FILE_S, Node, Reader, key_of
from arkund.core.once import once
from arkund.core.process.stage import Audio


@dataclass(frozen=True)
class Silence(Node):
    """A mic in a take that has no file for it."""

    @once
    def key(self) -> str:
        return key_of("silence", 1)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        return np.zeros(stop - start, np.float32)


@dataclass(frozen=True)
class Passage:
    """One passage of `Spliced`: a source, the first sample at which it sounds alone, what is added to
    a sample to find it in the source, its fade in in samples, and whether that keeps the level of
    sounds that are alike (else the power of sounds that are not)."""

    source: Node
    at: int
    offset: int
    fade: int
    alike: bool = False

    def rise(self, n: NDArray[np.int64]) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
        """Fade-in and fade-out gains, ``(n,)`` each, at the samples ``n`` ``(n,)`` of the song."""
        share = np.clip((n - (self.at - self.fade) + 0.5) / self.fade, 0, 1) * np.pi / 2
        rising, falling = np.sin(share), np.cos(share)
        if self.alike:
            rising, falling = rising**2, falling**2
        return rising.astype(np.float32), falling.astype(np.float32)


@dataclass(frozen=True)
class Spliced(Node):
    """Takes joined. A passage comes in over its fade, which ends at its first sample, while the one
    before goes out."""

    parts: tuple[Passage, ...]

    @once
    def key(self) -> str:
        parts = [
            [p.source.key, p.at, p.offset, p.fade, *([p.alike] if p.alike else [])]
            for p in self.parts
        ]
        return key_of("spliced", 1, parts)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        heard = []
        for number, part in enumerate(self.parts):
            following = self.parts[number + 1] if number + 1 < len(self.parts) else None
            first = max(part.at - part.fade if number else start, start)
            last = min(following.at if following else stop, stop)
            if first < last:
                sound = reader.over(part.source, first + part.offset, last + part.offset)
                ends = (
                    [following.at, following.fade]
                    if following and last > following.at - following.fade
                    else []
                )
                heard.append([sound, part.at, part.offset, part.fade, part.alike, *ends])
        return key_of("spliced", 1, heard)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out = np.zeros(stop - start, np.float32)
        for number, part in enumerate(self.parts):
            following = self.parts[number + 1] if number + 1 < len(self.parts) else None
            begin = part.at - part.fade if number else min(start, part.at)
            first = max(begin, start)
            last = min(following.at if following else stop, stop)
            if first >= last:
                continue
            sound = np.array(reader.read(part.source, first + part.offset, last + part.offset))
            n = np.arange(first, last)
            if number and first < part.at:
                sound *= part.rise(n)[0]
            if following is not None and last > following.at - following.fade:
                sound *= following.rise(n)[1]
            out[first - start : last - start] += sound
        return out


@dataclass(frozen=True)
class Moved(Node):
    """The source with its hits moved: slices as (first sample, offset into the source, fade in
    samples), named by the edit list's content hash and track.

    A slice comes in over a raised cosine while the one before goes out; what both carry is alike,
    so their amplitudes, not their powers, add up to one.
    """

    source: Node
    name: str
    at: tuple[int, ...]
    offsets: tuple[int, ...]
    fades: tuple[int, ...]

    @property
    def kept_s(self) -> float:
        return FILE_S

    @once
    def key(self) -> str:
        return key_of("moved", 1, self.source.key, self.name)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        first = max(bisect_right(self.at, start) - 1, 0)
        some = range(first, min(bisect_right(self.at, stop) + 2, len(self.at)))
        # When the first began, and what begins behind the span, is not heard.
        slices = [
            (max(self.at[n], start), self.offsets[n], self.fades[n] if self.at[n] > start else 0)
            for n in some
            if self.at[n] - self.fades[n] < stop
        ]
        around = max((abs(offset) for _, offset, _ in slices), default=0)
        heard = reader.over(self.source, start - around, stop + around)
        return key_of("moved", 2, heard, slices)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out = np.zeros(stop - start, np.float32)
        first = max(bisect_right(self.at, start) - 1, 0)
        # One read serves all slices of the span: offsets lie close to each other.
        last = bisect_right(self.at, stop) + 1
        offsets = self.offsets[first : last + 1]
        low, high = start + min(offsets), stop + max(offsets)
        sound = reader.read(self.source, low, high)
        for n in range(first, min(last, len(self.at))):
            end = self.at[n + 1] if n + 1 < len(self.at) else stop
            a, b = max(self.at[n] if n else start, start), min(end, stop)
            if a < b:
                shift = self.offsets[n] - low
                out[a - start : b - start] = sound[a + shift : b + shift]
            if n + 1 < len(self.at):
                a, b = max(end - self.fades[n + 1], start), min(end, stop)
                if a < b:
                    share = (np.arange(a, b) - end + self.fades[n + 1] + 0.5) / self.fades[n + 1]
                    rising = (0.5 - 0.5 * np.cos(np.pi * share)).astype(np.float32)
                    shift = self.offsets[n + 1] - low
                    coming = sound[a + shift : b + shift]
                    out[a - start : b - start] += rising * (coming - out[a - start : b - start])
        return out
