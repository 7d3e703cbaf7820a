"""The kinds of node in the signal graph, each a pure function from its inputs' sound to its own.

A node's key is the hash of its kind, version, settings and inputs' keys: equal keys, equal sound.
Nodes differ in what they must know to render a tile:

* *stateless*: so many samples to either side (`Placed`, `Gated`, `Mixed`, `Difference`);
* *forgetful*: what went in longer than `memory` ago no longer matters, so a tile is started that
  much earlier at rest (`Processed` with a short memory);
* *remembering*: the state at each tile's border is stored (`Processed` with a long memory).

The choice depends on settings alone, so a tile is the same whether previewed or printed.
"""

import hashlib
import json
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import (
    Envelope,
    ThresholdKey,
    Timing,
    apply_envelope,
    envelope,
    stroke_openings,
)
from arkund.core.clean.mending import SPLINE_REACH, ease_gain, rebuild
from arkund.core.mix.adding import add_mono, add_stereo, filter_valid
from arkund.core.process.stage import Audio, Processor

LOUDEST = np.float32(10 ** (24 / 20))
"""+24 dBFS: nothing leaves a stage or a sum louder, whatever a sheet asks for."""


def key_of(*parts: Any) -> str:
    """Hash that names a node."""
    return hashlib.sha1(json.dumps(parts, sort_keys=True, default=str).encode()).hexdigest()


class Reader(Protocol):
    """What a node asks of the engine: any span of another node, and long decisions, cached."""

    rate: int
    frames: int

    def read(self, node: "Node", start: int, stop: int) -> Audio: ...

    def scan(self, node: "Node", start: int, stop: int) -> Audio: ...

    def track(self, key: str, compute: "Any") -> NDArray[np.float64]: ...


@dataclass(frozen=True)
class Node:
    """Base of all nodes. ``channels`` is 1 or 2."""

    @cached_property
    def key(self) -> str:
        raise TypeError("a node names itself by its settings and inputs")

    @property
    def channels(self) -> int:
        return 1

    @property
    def is_cheap(self) -> bool:
        """Whether it is rendered again sooner than remembered."""
        return False

    @property
    def keeps_on_disk(self) -> bool:
        """Whether its tiles are dear enough to be kept over a restart."""
        return False

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        """Samples ``start`` to ``stop`` for a stateless node."""
        raise TypeError("this node is rendered by the engine, tile after tile")


@dataclass(frozen=True)
class File(Node):
    """A mic's source sound, called ``name`` in errors; silent outside the file."""

    path: Path
    sha256: str
    pick: str
    name: str = ""

    @property
    def is_cheap(self) -> bool:
        return True

    @cached_property
    def key(self) -> str:
        return key_of("file", 1, self.sha256, self.pick)


@dataclass(frozen=True)
class Mended(Node):
    """The source with its offset taken away, clipped runs rebuilt and single strokes brought down.

    ``runs`` are (first sample, samples), ``gains`` (first sample, samples, factor).
    """

    source: Node
    dc: float
    runs: tuple[tuple[int, int], ...]
    gains: tuple[tuple[int, int, float], ...]

    @property
    def is_cheap(self) -> bool:
        return True

    @cached_property
    def key(self) -> str:
        return key_of("mended", 1, self.source.key, self.dc, self.runs, self.gains)

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


@dataclass(frozen=True)
class Placed(Node):
    """Trim, polarity and delay (positive is later; fractions by a 64-tap windowed sinc, flat
    within 0.1 dB to 16 kHz at 44.1 kHz)."""

    source: Node
    gain: float
    delay: float

    @property
    def is_cheap(self) -> bool:
        return True

    @cached_property
    def key(self) -> str:
        return key_of("placed", 1, self.source.key, self.gain, self.delay)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        whole = int(np.floor(self.delay))
        fraction = self.delay - whole
        gain = np.float32(self.gain)
        if fraction == 0.0:
            return reader.read(self.source, start - whole, stop - whole) * gain
        taps = np.arange(-31, 33)
        kernel = np.sinc(taps - fraction) * np.kaiser(65, 8.0)[:-1]
        kernel *= 1.0 / kernel.sum()
        sound = reader.read(self.source, start - whole - 32, stop - whole + 31)
        return filter_valid(np.ascontiguousarray(sound), kernel[::-1] * self.gain)


@dataclass(frozen=True)
class GateRule:
    """How a gate decides: the onsets that open it, or thresholds on its own input (dBFS)."""

    opens_on: str
    threshold_db: float
    hysteresis_db: float
    range_db: float
    timing: Timing
    onsets: tuple[int, ...] = ()


@dataclass(frozen=True)
class Gated(Node):
    """The gate: its decision is made once over the whole song, its envelope applied anywhere."""

    source: Node
    rule: GateRule

    @cached_property
    def key(self) -> str:
        return key_of("gated", 1, self.source.key, repr(self.rule))

    def shape(self, reader: Reader) -> Envelope:
        """The whole song's gain, decided once and cached."""
        table = reader.track(self.key, lambda: self._decide(reader))
        return Envelope(table[0], table[1])

    def _decide(self, reader: Reader) -> NDArray[np.float64]:
        rule = self.rule
        if rule.opens_on == "strokes":
            onsets = np.array(rule.onsets, np.int64)
            openings = stroke_openings(onsets, 0, 1, reader.frames)
        else:
            close_db = rule.threshold_db - rule.hysteresis_db
            follower = ThresholdKey(rule.threshold_db, close_db, rule.timing.hold)
            step = 1 << 20
            for start in range(0, reader.frames, step):
                block = reader.scan(self.source, start, min(start + step, reader.frames))
                follower.feed(np.ascontiguousarray(block), start)
            openings = follower.finish(reader.frames)
        pairs = ((int(a), int(b)) for a, b in openings)
        shape = envelope(pairs, rule.range_db, rule.timing)
        return np.stack([shape.positions, shape.gains_db])

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        sound = np.ascontiguousarray(reader.read(self.source, start, stop))
        return apply_envelope(sound, start, self.shape(reader))


@dataclass(frozen=True)
class Processed(Node):
    """A processor on its input, its latency taken off again; its detector hears the ``listens``
    node where there is one."""

    source: Node
    processor: Processor
    dear: bool = False
    listens: Node | None = None

    @cached_property
    def key(self) -> str:
        own = ("processed", 1, self.source.key, self.processor.settings())
        return key_of(*own) if self.listens is None else key_of(*own, self.listens.key)

    @property
    def channels(self) -> int:
        return self.source.channels

    @property
    def keeps_on_disk(self) -> bool:
        return self.dear


@dataclass(frozen=True)
class Difference(Node):
    """One node less another: what a process took away."""

    whole: Node
    rest: Node

    @cached_property
    def key(self) -> str:
        return key_of("difference", 1, self.whole.key, self.rest.key)

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        return reader.read(self.whole, start, stop) - reader.read(self.rest, start, stop)


@dataclass(frozen=True)
class Mixed(Node):
    """A stereo sum: each input with its gain to the left and to the right.

    Added in float64 in the order given and rounded once.
    """

    inputs: tuple[tuple[Node, float, float], ...]

    @cached_property
    def key(self) -> str:
        return key_of("mixed", 1, [(node.key, left, right) for node, left, right in self.inputs])

    @property
    def channels(self) -> int:
        return 2

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        total = np.zeros((stop - start, 2))
        for node, left, right in self.inputs:
            sound = np.ascontiguousarray(reader.read(node, start, stop))
            if sound.ndim == 1:
                add_mono(total, sound, left, right)
            else:
                add_stereo(total, sound, left, right)
        return np.clip(total, -LOUDEST, LOUDEST).astype(np.float32)


@dataclass(frozen=True)
class Varied(Node):
    """One node after the other: ``parts`` are (from which sample on, samples of the fade into it,
    node). Both sides of a fade run all the while."""

    parts: tuple[tuple[int, int, Node], ...]

    @property
    def is_cheap(self) -> bool:
        return True

    @cached_property
    def key(self) -> str:
        return key_of("varied", 1, [(at, ramp, node.key) for at, ramp, node in self.parts])

    @property
    def channels(self) -> int:
        return self.parts[0][2].channels

    def render(self, reader: Reader, start: int, stop: int) -> Audio:
        out: Audio | None = None
        for number, (at, ramp, node) in enumerate(self.parts):
            ends = self.parts[number + 1] if number + 1 < len(self.parts) else None
            over = ends is not None and start >= ends[0] + ends[1]
            if at >= stop or over:
                continue
            sound = reader.read(node, start, stop)
            if out is None:
                out = np.array(sound)
                continue
            share = np.clip((np.arange(start, stop) - at + 1) / max(ramp, 1), 0, 1)
            out += (sound - out) * share.astype(np.float32).reshape(-1, *[1] * (sound.ndim - 1))
        assert out is not None
        return out


def pan_gains(pan: float) -> tuple[float, float]:
    """Constant power: −3 dB to both sides at the centre, 0 dB to one at its end."""
    angle = (pan + 1) * np.pi / 4
    left, right = float(np.cos(angle)), float(np.sin(angle))
    return (left if left > 1e-9 else 0.0, right if right > 1e-9 else 0.0)
