"""The kinds of node in the signal graph, each a pure function from its inputs' sound to its own.

A node's key is the hash of its kind, version, settings and inputs' keys: equal keys, equal sound.
Its key *over a span* is the hash of what is heard in that span alone: one hit moved in bar 40
leaves the keys of bars 1 to 30 as they are. They need so many samples to either side and no
more; chains, which remember, are `core/graph/chains.py`."""

import hashlib
import json
from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar, Protocol

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import Envelope, apply_envelope
from arkund.core.clean.mending import SPLINE_REACH, ease_gain, rebuild
from arkund.core.clean.rule import GateRule
from arkund.core.graph.adding import filter_valid, taps_late
from arkund.core.once import once
from arkund.core.process.stage import Audio

LOUDEST = np.float32(10 ** (24 / 20))
"""+24 dBFS: nothing leaves a stage or a sum louder, whatever a sheet asks for."""


def key_of(*parts: Any) -> str:
    """Hash that names a node."""
    return hashlib.sha1(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()


def silence_broken(sound: Audio) -> int | None:
    """Set what is not a number, or infinite, in ``(frames,)`` or ``(frames, 2)`` to silence, in place; the
    first such frame, None where
    there is none. Sound that is fine costs one sum."""
    if np.isfinite(sound.sum()):
        return None
    fine = np.isfinite(sound)
    if fine.all():  # finite, but its sum is beyond what a float32 holds
        return None
    frames = fine if fine.ndim == 1 else fine.all(axis=1)
    sound[~fine] = 0.0
    return int(np.argmin(frames))


class Reader(Protocol):
    """What a node asks of the engine: any span of another node, and long decisions, cached."""

    rate: int
    frames: int

    @property
    def exact(self) -> "Reader":
        """The same on exact sound, which decisions rest on."""

    def read(self, node: "Node", start: int, stop: int) -> Audio: ...

    def parts(self, node: "Node", start: int, stop: int) -> list[tuple[int, Audio]]: ...

    def over(self, node: "Node", start: int, stop: int) -> str: ...

    def track(
        self, key: str, compute: Callable[[Any], NDArray[np.float64]]
    ) -> NDArray[np.float64]: ...

    def note_broken(self, node: "Node", link: int, at: int) -> None:
        """Note that a node's sound is not a number from sample ``at`` of the song on."""


@dataclass(frozen=True)
class Node:
    """Base of all nodes. ``channels`` is 1 or 2."""

    passes_on: ClassVar[bool] = False
    """Whether it gives what its inputs give, added up or turned down: numbers wherever these are, so
    that its sound need not be looked at again."""

    @once
    def key(self) -> str:
        raise TypeError("a node names itself by its settings and inputs")

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        """Hash of what the samples ``start`` to ``stop`` are made of; inputs by `Reader.over`."""
        return self.key

    @property
    def channels(self) -> int:
        return 1

    @property
    def kept_s(self) -> float:
        """In parts of so many seconds it is remembered beside what is rendered, since it stays as it
        is while sounds are worked on; 0 of what is made anew whenever it is asked for."""
        return 0.0

    @property
    def keeps_on_disk(self) -> bool:
        """Whether its tiles are dear enough to be kept over a restart."""
        return False

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` for a stateless node."""
        raise TypeError("this node is rendered by the engine, piece after piece")


FILE_S = 2.0
"""Parts in which files, and what moved hits make of them, are remembered."""


@dataclass(frozen=True)
class File(Node):
    """A mic's source sound, called ``name`` in errors; silent outside the file."""

    path: Path
    sha256: str
    pick: str
    name: str = ""

    @property
    def kept_s(self) -> float:
        return FILE_S

    @once
    def key(self) -> str:
        return key_of("file", 1, self.sha256, self.pick)


@dataclass(frozen=True)
class Mended(Node):
    """The source with its DC offset removed, clipped runs rebuilt and single hits turned down.

    ``runs`` are (first sample, samples), ``gains`` (first sample, samples, factor).
    """

    source: Node
    dc: float
    runs: tuple[tuple[int, int], ...]
    gains: tuple[tuple[int, int, float], ...]

    @once
    def key(self) -> str:
        return key_of("mended", 1, self.source.key, self.dc, self.runs, self.gains)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        around = SPLINE_REACH + 64
        heard = reader.over(self.source, start - around, stop + around)
        runs = [run for run in self.runs if start - 64 < run[0] < stop]
        gains = [
            g for g in self.gains if start - reader.rate < g[0] + g[1] and g[0] - reader.rate < stop
        ]
        return key_of("mended", 1, heard, self.dc, runs, gains)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        around = SPLINE_REACH + 64
        sound = np.array(reader.read(self.source, start - around, stop + around))
        for at, frames in self.runs:
            if start - 64 < at < stop:
                rebuild(sound, at - start + around, frames)
        sound = sound[around : around + stop - start]
        if self.dc:
            sound = sound - np.float32(self.dc)
        for at, frames, factor in self.gains:
            ease_gain(sound, at - start, frames, factor, reader.rate)
        return sound


PULSE_S = 0.03
"""A pulse has fallen to 1/e after so long."""


@dataclass(frozen=True)
class Pulses(Node):
    """A list of hits as a sound: at each (sample, amplitude) a pulse that rises at once and dies
    away. To be listened to by stages, not by ears."""

    hits: tuple[tuple[int, float], ...]

    @once
    def key(self) -> str:
        return key_of("pulses", 1, self.hits)

    def _near(self, rate: int, start: int, stop: int) -> list[tuple[int, float]]:
        around = int(16 * PULSE_S * rate)
        first = bisect_left(self.hits, (start - around, 0.0))
        return list(self.hits[first : bisect_left(self.hits, (stop, 0.0))])

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        return key_of("pulses", 1, self._near(reader.rate, start, stop))

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out = np.zeros(stop - start, np.float32)
        n = np.arange(int(16 * PULSE_S * reader.rate))
        shape = np.exp(-n / (PULSE_S * reader.rate)).astype(np.float32)
        for at, amplitude in self._near(reader.rate, start, stop):
            first, last = max(at, start), min(at + len(shape), stop)
            if first < last:
                part = out[first - start : last - start]
                np.maximum(part, np.float32(amplitude) * shape[first - at : last - at], out=part)
        return out


@dataclass(frozen=True)
class Placed(Node):
    """Trim, polarity and delay (positive is later; fractions by a 64-tap windowed sinc, flat
    within 0.1 dB to 16 kHz at 44.1 kHz)."""

    passes_on: ClassVar[bool] = True
    source: Node
    gain: float
    delay: float

    @once
    def key(self) -> str:
        return key_of("placed", 1, self.source.key, self.gain, self.delay)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        whole = int(np.floor(self.delay))
        heard = reader.over(self.source, start - whole - 32, stop - whole + 32)
        return key_of("placed", 1, heard, self.gain, self.delay)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        whole = int(np.floor(self.delay))
        fraction = self.delay - whole
        gain = np.float32(self.gain)
        if fraction == 0.0:
            return reader.read(self.source, start - whole, stop - whole) * gain
        sound = reader.read(self.source, start - whole - 32, stop - whole + 31)
        return filter_valid(np.ascontiguousarray(sound), taps_late(fraction) * self.gain)


@dataclass(frozen=True)
class Enveloped(Node):
    """A source times a gain over time, which is decided once over the whole song."""

    passes_on: ClassVar[bool] = True
    source: Node

    @property
    def channels(self) -> int:
        return self.source.channels

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        shape = self.shape(reader)
        first = max(int(np.searchsorted(shape.positions, start, "right")) - 1, 0)
        last = int(np.searchsorted(shape.positions, stop, "left")) + 1
        points = [shape.positions[first:last].tolist(), shape.gains_db[first:last].tolist()]
        return key_of("gated", 1, reader.over(self.source, start, stop), points)

    def shape(self, reader: Reader) -> Envelope:
        """The whole song's gain, decided once and cached."""
        table = reader.track(self.key, self._decide)
        return Envelope(table[0], table[1])

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        """Positions in samples and gains in dB, ``(2, n)``."""
        raise TypeError("this node decides its gain")

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        sound, shape = reader.read(self.source, start, stop), self.shape(reader)
        if sound.ndim == 1:
            return apply_envelope(np.ascontiguousarray(sound), start, shape)
        sides = [apply_envelope(np.ascontiguousarray(side), start, shape) for side in sound.T]
        return np.stack(sides, axis=1)


@dataclass(frozen=True)
class Gated(Enveloped):
    """The gate: its decision is made once over the whole song, its envelope applied anywhere. A
    threshold hears ``listens`` where there is one. Where ``shut`` is given, that is heard while the
    gate is shut."""

    rule: GateRule
    listens: Node | None = None
    shut: Node | None = None

    @once
    def key(self) -> str:
        heard = self.listens.key if self.listens else ""
        shut = [self.shut.key] if self.shut else []
        return key_of("gated", 2, self.source.key, heard, repr(self.rule), *shut)

    def key_over(self, reader: Reader, start: int, stop: int) -> str:
        own = super().key_over(reader, start, stop)
        return key_of(own, reader.over(self.shut, start, stop)) if self.shut else own

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        if self.shut is None:
            return super().render(reader, start, stop)
        sound, shut = (reader.read(node, start, stop) for node in (self.source, self.shut))
        gain = 10 ** (self.shape(reader).at(np.arange(start, stop, dtype=np.float64)) / 20)
        least = 10 ** (self.rule.range_db / 20)
        opened = np.clip((gain - least) / (1 - least), 0, 1).astype(np.float32)
        return shut + opened * (sound - shut)

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        step = 1 << 20
        heard = self.listens or self.source
        key = (
            (start, reader.read(heard, start, min(start + step, reader.frames)))
            for start in range(0, reader.frames, step)
        )
        shape = self.rule.shape(self.rule.openings(key, reader.frames))
        return np.stack([shape.positions, shape.gains_db])
