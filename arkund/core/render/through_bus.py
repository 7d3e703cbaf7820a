"""Stems through the drum bus as the whole mix drives it, so that they sum to the mix, bus and all.

An EQ that stands is linear: it is run on every stem as it is. What else the bus does (glue, saturation, limiter,
level) is taken from the mix as a gain over time, the least-squares one of the last third of a millisecond, and
given to every stem. What the mix then still has beyond the stems' sum (the distortion of a saturation, mostly) goes
to the stems in proportion to their power of the last 10 ms.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.graph.graph import Graph
from arkund.core.graph.nodes import Node
from arkund.core.process.cascade import Cascade
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Audio, processor_of
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.sheet import Sheet

GAIN_MS, POWER_MS = 0.33, 10.0
NOTHING = 1e-12


@dataclass(frozen=True)
class Step:
    """A part of the drum bus: what the mix is before and after it, and the EQ that it is, if it is one."""

    before: Node
    after: Node
    eq: Cascade | None = None


def steps_of(graph: Graph, sheet: Sheet) -> list[Step]:
    """The drum bus in as few parts as there are: each EQ that stands over the whole song, what lies between them,
    and its level at the end."""
    chained, out = graph.chain(DRUM_BUS), list[Step]()
    differs = any(over.path.startswith(f"{DRUM_BUS}.chain.") for over in sheet.over)
    at = chained.entry
    for stage in chained.chain:
        if not isinstance(stage, Equaliser) or stage.is_transparent or differs:
            continue
        process = processor_of(stage, sheet.rate)
        if not isinstance(process, Cascade):
            continue
        if chained.before(stage.id) is not at:
            out.append(Step(at, chained.before(stage.id)))
        at = chained.tap(stage.id)
        out.append(Step(chained.before(stage.id), at, process))
    if graph.output is not at:
        out.append(Step(at, graph.output))
    return out


@dataclass
class ThroughBus:
    """The stems of a song on their way through ``steps``, block by block. ``counts`` says of each stem whether it
    is a part of the sum."""

    steps: Sequence[Step]
    counts: Sequence[bool]
    rate: int
    _states: list[list[NDArray[np.float64]]] = field(init=False)
    _gains: list[NDArray[np.float64]] = field(init=False)
    _powers: list[NDArray[np.float64]] = field(init=False)

    def __post_init__(self) -> None:
        """Everything at rest."""
        count = len(self.counts)
        self._states = [
            [step.eq.at_rest(2) for _ in range(count)] if step.eq else [] for step in self.steps
        ]
        self._gains = [np.zeros((2, 1)) for _ in self.steps]
        self._powers = [np.zeros((count, 1)) for _ in self.steps]

    @property
    def nodes(self) -> list[Node]:
        """What of the mix is needed of each block."""
        return list({n.key: n for s in self.steps for n in (s.before, s.after)}.values())

    def run(self, stems: Sequence[Audio], mix: Mapping[str, Audio]) -> list[Audio]:
        """The next block of each stem ``(frames, 2)`` through the bus; ``mix`` holds that of each of
        `nodes`, by its key."""
        out = [np.ascontiguousarray(one) for one in stems]
        for n, step in enumerate(self.steps):
            if step.eq is not None:
                out = [
                    step.eq.run(one, state) for one, state in zip(out, self._states[n], strict=True)
                ]
            else:
                out = self._driven(n, out, mix[step.before.key], mix[step.after.key])
        return out

    def _driven(self, n: int, stems: list[Audio], before: Audio, after: Audio) -> list[Audio]:
        products = np.stack([(after * before).sum(axis=1), (before * before).sum(axis=1)])
        smooth, self._gains[n] = self._smoothed(products + NOTHING, GAIN_MS, self._gains[n])
        gain = (smooth[0] / smooth[1]).astype(np.float32)[:, None]
        out = [one * gain for one in stems]
        parts = [one for one, counts in zip(out, self.counts, strict=True) if counts]
        if not parts:
            return out
        beyond = after - np.sum(parts, axis=0)
        power = np.stack(
            [(one * one).sum(axis=1) * c for one, c in zip(out, self.counts, strict=True)]
        )
        smooth, self._powers[n] = self._smoothed(power, POWER_MS, self._powers[n])
        smooth = smooth + NOTHING * np.array(self.counts, np.float64)[:, None]
        share = (smooth / smooth.sum(axis=0)).astype(np.float32)
        return [one + part[:, None] * beyond for one, part in zip(out, share, strict=True)]

    def _smoothed(
        self, rows: NDArray[np.float64], ms: float, state: NDArray[np.float64]
    ) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Rows ``(n, frames)`` through a one-pole of so many ms, and its state."""
        step = 1 - np.exp(-1000 / (ms * self.rate))
        smooth, state = scipy.signal.lfilter([step], [1, step - 1], rows, axis=1, zi=state)
        return smooth, state
