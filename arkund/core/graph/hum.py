"""Notches at the mains, as the graph runs them."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.mending import hum_sections
from arkund.core.process.stage import Audio
from arkund.core.shape import biquad


@dataclass
class HumProcess:
    """Notches at the mains frequency and its harmonics; transparent at 0 Hz."""

    hum_hz: float
    lines: int
    rate: int
    latency: int = 0
    memory: int = field(init=False)

    def __post_init__(self) -> None:
        self.sections = hum_sections(self.hum_hz, self.lines, self.rate) if self.hum_hz else []
        self.memory = biquad.memory(self.sections) if self.sections else 0

    @property
    def is_transparent(self) -> bool:
        """Whether there is no hum to take away."""
        return not self.sections

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["hum", 1, self.sections, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return biquad.new_state(self.sections)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` without hum."""
        return biquad.run(audio, self.sections, state)
