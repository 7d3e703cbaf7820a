"""Layers: what is struck along with a drum, as lanes of their own.

A layer follows a mic: it plays at the hits of that mic's piece, where they fall in it after trim
and delay, so that both stay in phase. It has a chain and a fader and runs into a group as mics do.
"""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from arkund.core.process.values import Part, choice, switch, time_ms, value
from arkund.core.sheet.channels import DRUMS, Channel
from arkund.core.sheet.limits import Frame, Name

MOST_SAMPLES, MOST_LEFT_OUT = 64, 4000
NOTE_HZ, CROSSOVER_HZ = (20.0, 200.0), (30.0, 250.0)
FADE_IN_MS, FADE_OUT_MS = (0.2, 20.0), (1.0, 1000.0)
HIT = r"^[A-Za-z0-9][A-Za-z0-9_-]{0,47}$"


class Sample(Part):
    """A hit as a sample, ``frames`` long: of the song by the hit's id, so that it goes along
    when hits are moved or the mic is delayed; of a kit file from its sample ``at`` on. It fades in
    from its beginning on, which lies shortly before the hit, and out to its end."""

    hit: str | None = Field(None, pattern=HIT)
    at: Frame | None = None
    frames: int = Field(ge=64, le=2_000_000)
    fade_in_ms: float = Field(1.0, ge=FADE_IN_MS[0], le=FADE_IN_MS[1])
    fade_out_ms: float = Field(20.0, ge=FADE_OUT_MS[0], le=FADE_OUT_MS[1])

    @model_validator(mode="after")
    def _is_somewhere(self) -> "Sample":
        if (self.hit is None) == (self.at is None):
            raise ValueError("a sample is a hit of the song or a place in a kit file")
        return self


class LayerBase(Channel):
    """What both kinds share: the mic that is followed, which hits, how much of their velocity."""

    of: Name = Field(title="follows")
    mode: Literal["under", "instead"] = choice("under", "mode")
    hits: Literal["accents", "all"] = choice("accents", "plays on")
    low: int = value(1, 1, 127, "", "softest velocity", step=1, ticks=(1, 32, 64, 96, 127))
    high: int = value(127, 1, 127, "", "loudest velocity", step=1, ticks=(1, 32, 64, 96, 127))
    following: float = value(
        1.0,
        0,
        1,
        "×",
        "velocity following",
        step=0.05,
        ticks=(0, 0.25, 0.5, 0.75, 1),
        hint="1: as loud as each hit; 0: all as the typical one",
    )
    choke: bool = switch(True, "ends at the next hit")
    left_out: tuple[Annotated[str, Field(pattern=HIT)], ...] = Field((), max_length=MOST_LEFT_OUT)
    """Ids of hits on which it does not play, whatever else holds of them."""
    to: Name = Field(DRUMS, title="runs into")


class SampleLayer(LayerBase):
    """Samples harvested from the song or from a kit file, chosen by level, never the same twice
    running."""

    kind: Literal["samples"] = "samples"
    source: str | None = Field(None, pattern=r"^[0-9a-f]{64}$")
    """Content hash of the kit file that the samples are cut of; the mic itself without one."""

    @model_validator(mode="after")
    def _samples_are_where_they_are_cut(self) -> "SampleLayer":
        if any((sample.at is None) == (self.source is not None) for sample in self.samples):
            raise ValueError("samples of a kit file have places, those of the song are hits")
        return self

    samples: tuple[Sample, ...] = Field(min_length=1, max_length=MOST_SAMPLES)


class SubLayer(LayerBase):
    """A sine on a note, opened by the drum's hits."""

    kind: Literal["sub"] = "sub"
    note_hz: float = value(
        50.0,
        *NOTE_HZ,
        "Hz",
        "note",
        scale="log",
        step=1.02,
        ticks=(25, 50, 100, 200),
        hint="triangle: the drum's own note, or the root note near it",
    )
    attack_ms: float = time_ms(4.0, 0.5, 100, "attack", ticks=(1, 10, 100))
    decay_ms: float = time_ms(
        300.0, 20, 2000, "decay", ticks=(30, 100, 300, 1000), hint="until it has fallen by 60 dB"
    )
    fall: float = value(
        0.0,
        0,
        24,
        "semitones",
        "pitch fall",
        step=1,
        ticks=(0, 6, 12, 24),
        hint="how far above its note it begins",
    )
    drive_db: float = value(0.0, 0, 24, "dB", "drive", step=0.5, ticks=(0, 6, 12, 18, 24))
    crossover: bool = switch(False, "crossover with the drum")
    crossover_hz: float = value(
        70.0,
        *CROSSOVER_HZ,
        "Hz",
        "crossover",
        scale="log",
        step=1.02,
        ticks=(30, 50, 100, 200),
        hint="below it the sub alone, above it the drum's close mics alone",
    )
    crossover_db_oct: Literal[24, 48] = choice(24, "slope", "dB/oct")


AnyLayer = Annotated[SampleLayer | SubLayer, Field(discriminator="kind")]
