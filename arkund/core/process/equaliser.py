"""The equaliser: two filters, up to eight bands, output gain."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from arkund.core.process.stage import Audio, Id, Stage
from arkund.core.process.values import Part, choice, switch, value
from arkund.core.shape import biquad
from arkund.core.units import db_to_amplitude

MOST_BANDS = 8

SHELF_Q = 1.2
"""A sharper shelf would overshoot by several dB on both sides of its slope."""

_HZ = (30.0, 100.0, 300.0, 1000.0, 3000.0, 10000.0)
_AREA = "area: this drum · grey: bleed"


class Filter(Part):
    """A Butterworth high- or low-pass; ``resonance`` multiplies the Q of its sharpest section."""

    on: bool = switch(False, "on")
    frequency_hz: float = value(
        60.0, 20, 20000, "Hz", "frequency", scale="log", step=1.03, ticks=_HZ, hint=_AREA
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


class Band(Part):
    """A bell or shelf. Q 0.4 (broad) to 16 (narrow)."""

    id: Id
    on: bool = switch(False, "on")
    kind: Literal["bell", "low_shelf", "high_shelf"] = choice("bell", "kind")
    frequency_hz: float = value(
        1000.0, 20, 16000, "Hz", "frequency", scale="log", step=1.03, ticks=_HZ, hint=_AREA
    )
    gain_db: float = value(
        0.0,
        -24,
        24,
        "dB",
        "gain",
        shown=(-18, 18),
        ticks=(-18, -12, -6, 0, 6, 12, 18),
        hint="up or down, 18 dB on the ruler",
    )
    q: float = value(
        1.0,
        0.4,
        16,
        "Q",
        "width",
        scale="log",
        step=1.06,
        ticks=(0.5, 1, 2, 4, 8, 16),
        hint="broad to narrow",
    )


def _bands() -> tuple[Band, ...]:
    return (
        Band(id="b1", kind="low_shelf", frequency_hz=80, q=0.7),
        Band(id="b2", frequency_hz=400),
        Band(id="b3", frequency_hz=3000),
        Band(id="b4", kind="high_shelf", frequency_hz=9000, q=0.7),
    )


class Equaliser(Stage):
    """Two filters, up to eight bands, output gain."""

    label: ClassVar[str] = "EQ"
    about: ClassVar[str] = "Tone: filters, bells and shelves."
    busy: ClassVar[dict[str, Any]] = {
        "bands": [{"id": f"b{n}", "on": True, "gain_db": 1} for n in range(4)]
    }

    kind: Literal["eq"] = "eq"
    id: Id = "eq"
    high_pass: Filter = Filter(frequency_hz=60)
    low_pass: Filter = Filter(frequency_hz=14000)
    bands: tuple[Band, ...] = Field(default_factory=_bands, max_length=MOST_BANDS)
    output_db: float = value(
        0.0, -24, 24, "dB", "EQ output", shown=(-12, 12), ticks=(-12, -6, 0, 6, 12)
    )

    @model_validator(mode="after")
    def _bands_have_ids_of_their_own(self) -> "Equaliser":
        ids = [b.id for b in self.bands]
        if len(set(ids)) < len(ids):
            raise ValueError("two bands have one id")
        return self

    @property
    def is_transparent(self) -> bool:
        """Whether nothing in it is in."""
        bands = any(b.on and b.gain_db != 0 for b in self.bands)
        filters = self.high_pass.on or self.low_pass.on
        return not self.on or not (bands or filters or self.output_db)

    def process(self, rate: int) -> "EqualiserProcess":
        """The cascade of all that is in."""
        return EqualiserProcess(self, rate)


def equaliser_sections(eq: Equaliser, rate: int) -> list[biquad.Section]:
    """Sections of all that is in, filters first."""
    sections: list[biquad.Section] = []
    for kind, part in (("high_pass", eq.high_pass), ("low_pass", eq.low_pass)):
        if part.on:
            sections += biquad.butterworth(
                kind, part.frequency_hz, part.slope_db_oct, part.resonance, rate
            )
    sections += [band_section(band, rate) for band in eq.bands if band.on and band.gain_db != 0]
    return sections


def band_section(band: Band, rate: int) -> biquad.Section:
    """The section of one bell or shelf; a shelf's Q is held to `SHELF_Q`."""
    make = {"bell": biquad.bell, "low_shelf": biquad.low_shelf, "high_shelf": biquad.high_shelf}
    q = band.q if band.kind == "bell" else min(band.q, SHELF_Q)
    return biquad.match(make[band.kind](band.gain_db, q), band.frequency_hz, rate)


class EqualiserProcess:
    """An equaliser at a rate; each side runs by itself."""

    latency = 0

    def __init__(self, eq: Equaliser, rate: int) -> None:
        self.rate = rate
        self.sections = equaliser_sections(eq, rate)
        self.gain = db_to_amplitude(eq.output_db)
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
