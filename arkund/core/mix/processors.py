"""The chain's processors as the graph runs them: settings of the sheet bound to their kernels."""

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.mending import hum_sections
from arkund.core.mix.sheet import Band, Compressor, Equaliser, Transient
from arkund.core.shape import biquad, compressor, transient
from arkund.core.units import db_to_amplitude, ms_to_samples

Audio = NDArray[np.float32]


def equaliser_sections(eq: Equaliser, rate: int) -> list[biquad.Section]:
    """Sections of all that is on, filters first."""
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


SHELF_Q = 1.2
"""A sharper shelf would overshoot by several dB on both sides of its slope."""


@dataclass
class EqualiserProcess:
    """`Equaliser` on a mono signal; transparent when nothing is on."""

    eq: Equaliser
    rate: int
    latency: int = 0
    memory: int = field(init=False)

    def __post_init__(self) -> None:
        self.sections = equaliser_sections(self.eq, self.rate)
        self.gain = db_to_amplitude(self.eq.output_db)
        self.memory = biquad.memory(self.sections) if self.sections else 0

    @property
    def is_transparent(self) -> bool:
        return not self.eq.on or (not self.sections and self.eq.output_db == 0)

    def settings(self) -> Any:
        return ["eq", 1, self.sections, self.gain, self.rate]

    def at_rest(self) -> NDArray[np.float64]:
        return biquad.new_state(self.sections)

    def run(self, audio: Audio, state: NDArray[np.float64]) -> Audio:
        out = biquad.run(audio, self.sections, state) if self.sections else audio
        return out if self.gain == 1.0 else out * np.float32(self.gain)


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
        return not self.sections

    def settings(self) -> Any:
        return ["hum", 1, self.sections, self.rate]

    def at_rest(self) -> NDArray[np.float64]:
        return biquad.new_state(self.sections)

    def run(self, audio: Audio, state: NDArray[np.float64]) -> Audio:
        return biquad.run(audio, self.sections, state)


@dataclass
class TransientProcess:
    """`Transient` on a mono signal."""

    part: Transient
    rate: int
    latency: int = 0
    memory: int = field(init=False)

    def __post_init__(self) -> None:
        self.memory = transient.memory(self.rate)
        self._settings = transient.Settings(self.part.attack_db, self.part.sustain_db)

    @property
    def is_transparent(self) -> bool:
        return not self.part.on or self._settings.is_transparent

    def settings(self) -> Any:
        return ["transient", 1, self.part.attack_db, self.part.sustain_db, self.rate]

    def at_rest(self) -> NDArray[np.float64]:
        return transient.new_state()

    def run(self, audio: Audio, state: NDArray[np.float64]) -> Audio:
        return transient.run(audio, self._settings, self.rate, state)


@dataclass
class CompressorProcess:
    """`Compressor` on a mono or stereo-linked signal. With lookahead the sound is held back that
    long behind the detector, which is its latency."""

    part: Compressor
    rate: int
    latency: int = field(init=False)
    memory: int = field(init=False)

    def __post_init__(self) -> None:
        p = self.part
        self.setup = compressor.Settings(
            p.threshold_db, p.ratio, p.knee_db, p.attack_ms, p.release_ms, p.makeup_db, p.mix
        )
        self.latency = ms_to_samples(p.lookahead_ms, self.rate)
        self.memory = compressor.memory(self.setup, self.rate) + self.latency

    @property
    def is_transparent(self) -> bool:
        return not self.part.on or self.setup.is_transparent

    def settings(self) -> Any:
        return ["compressor", 1, repr(self.setup), self.latency, self.rate]

    def at_rest(self) -> NDArray[np.float64]:
        # The reduction, then the samples still held back (two sides).
        return np.zeros(1 + 2 * self.latency)

    def run(self, audio: Audio, state: NDArray[np.float64]) -> Audio:
        return self.run_traced(audio, state)[0]

    def run_traced(
        self, audio: Audio, state: NDArray[np.float64]
    ) -> tuple[Audio, NDArray[np.float32]]:
        """Output and the reduction in dB, a point every `compressor.TRACE_STEP` samples."""
        key = compressor.linked_key(audio)
        held = audio
        if self.latency:
            sides = 1 if audio.ndim == 1 else 2
            past = state[1 : 1 + sides * self.latency].astype(np.float32)
            past = past if audio.ndim == 1 else past.reshape(self.latency, 2)
            joined = np.concatenate([past, audio])
            held = np.ascontiguousarray(joined[: len(audio)])
            state[1 : 1 + sides * self.latency] = joined[len(audio) :].ravel()
        return compressor.run(np.ascontiguousarray(held), key, self.setup, self.rate, state[:1])
