"""High- and low-pass filters, and sections in cascade as the engine runs them."""

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio
from arkund.core.process.values import Part, choice, switch, value
from arkund.core.shape import biquad
from arkund.core.units import db_to_amplitude

HZ = (30.0, 100.0, 300.0, 1000.0, 3000.0, 10000.0)
AREA = "area: this drum · grey: bleed"
"""Ticks and hint of every frequency ruler."""


class Filter(Part):
    """A Butterworth high- or low-pass; ``resonance`` multiplies the Q of its sharpest section."""

    on: bool = switch(False, "on")
    frequency_hz: float = value(
        60.0, 20, 20000, "Hz", "frequency", scale="log", step=1.03, ticks=HZ, hint=AREA
    )
    slope_db_oct: Literal[6, 12, 18, 24, 36, 48] = choice(12, "slope", "dB/oct")
    resonance: float = value(
        1.0,
        0.5,
        4,
        "",
        "resonance",
        step=0.1,
        ticks=(0.5, 1, 2, 3, 4),
        hint="1 is flat; more rings at the corner",
    )


def filter_sections(high_pass: Filter, low_pass: Filter, rate: int) -> list[biquad.Section]:
    """Sections of the two filters as far as they are on."""
    out: list[biquad.Section] = []
    for kind, part in (("high_pass", high_pass), ("low_pass", low_pass)):
        if part.on:
            out += biquad.butterworth(
                kind, part.frequency_hz, part.slope_db_oct, part.resonance, rate
            )
    return out


class Cascade:
    """Sections one after the other and a gain, at a rate; each side runs by itself."""

    latency = 0

    def __init__(
        self, sections: Sequence[biquad.Section], rate: int, output_db: float = 0.0
    ) -> None:
        self.rate = rate
        self.sections = list(sections)
        self.gain = db_to_amplitude(output_db)
        self.memory = biquad.memory(self.sections) if self.sections else 0

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["eq", 1, self.sections, self.gain, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return np.concatenate([biquad.new_state(self.sections)] * channels)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` through the cascade."""
        out = biquad.run_sides(audio, self.sections, state) if self.sections else audio
        return out if self.gain == 1.0 else out * np.float32(self.gain)
