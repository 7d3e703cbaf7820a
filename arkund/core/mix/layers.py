"""Layers: what is struck along with a drum, as lanes of their own.

A layer follows a mic: it plays at the strokes of that mic's piece, where they fall in it after trim
and delay, so that both stay in phase. It has a chain and a fader and runs into a group as mics do.
"""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from arkund.core.mix.channels import DRUMS, Channel, Frame, Name
from arkund.core.process.values import Part, choice, switch, value

MOST_SAMPLES = 64


class Sample(Part):
    """A stroke as a sample, ``frames`` long: of the song by the stroke's id, so that it goes along
    when strokes are moved or the mic is delayed; of a kit file from its sample ``at`` on."""

    hit: str | None = Field(None, pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,47}$")
    at: Frame | None = None
    frames: int = Field(ge=64, le=2_000_000)

    @model_validator(mode="after")
    def _is_somewhere(self) -> "Sample":
        if (self.hit is None) == (self.at is None):
            raise ValueError("a sample is a stroke of the song or a place in a kit file")
        return self


class LayerBase(Channel):
    """What both kinds share: the mic that is followed, which strokes, how much of their velocity."""

    of: Name = Field(title="follows")
    mode: Literal["under", "instead"] = choice("under", "mode")
    strokes: Literal["accents", "all"] = choice("accents", "plays on")
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
        hint="1: as loud as each stroke; 0: all as the typical one",
    )
    choke: bool = switch(True, "ends at the next stroke")
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
            raise ValueError("samples of a kit file have places, those of the song are strokes")
        return self

    samples: tuple[Sample, ...] = Field(min_length=1, max_length=MOST_SAMPLES)


class SubLayer(LayerBase):
    """A sine on a note, opened by the drum's strokes."""

    kind: Literal["sub"] = "sub"
    note_hz: float = value(
        50.0,
        20,
        200,
        "Hz",
        "note",
        scale="log",
        step=1.02,
        ticks=(25, 50, 100, 200),
        hint="mark: the drum's own fundamental",
    )
    attack_ms: float = value(
        4.0, 0.5, 100, "ms", "attack", scale="log", step=1.06, ticks=(1, 10, 100)
    )
    decay_ms: float = value(
        300.0,
        20,
        2000,
        "ms",
        "decay",
        scale="log",
        step=1.06,
        ticks=(30, 100, 300, 1000),
        hint="until it has fallen by 60 dB",
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


AnyLayer = Annotated[SampleLayer | SubLayer, Field(discriminator="kind")]
