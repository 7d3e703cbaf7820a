"""Reverberation: a room or a plate."""

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio, Id, Stage
from arkund.core.process.values import choice, value
from arkund.core.shape import room

EARLY_GAIN = 0.5
"""Early reflections in full are about as strong as the tail."""


class Room(Stage):
    """A room or a plate around the sound. On a bus the mix is 1: sends and blend make the rest."""

    label: ClassVar[str] = "room"
    about: ClassVar[str] = "Adds a room or a plate: a tail, or a space around the drum."

    on_a_bus: ClassVar[Mapping[str, Any]] = {"mix": 1.0}

    kind: Literal["room"] = "room"
    id: Id = "room"
    surface: Literal["room", "plate"] = choice(
        "room", "kind of room", hint="room: with early reflections · plate: dense at once"
    )
    decay_s: float = value(
        0.8,
        0.1,
        5,
        "s",
        "decay",
        scale="log",
        step=1.05,
        ticks=(0.1, 0.3, 1, 3, 5),
        hint="until the tail is 60 dB down, between lows and highs",
    )
    low_factor: float = value(
        1.0, 0.3, 2, "×", "lows decay", scale="log", step=1.03, ticks=(0.3, 0.5, 1, 2)
    )
    high_factor: float = value(
        0.6, 0.1, 1.5, "×", "highs decay", scale="log", step=1.03, ticks=(0.1, 0.3, 0.6, 1, 1.5)
    )
    high_hz: float = value(
        5000.0,
        1000,
        12_000,
        "Hz",
        "damping from",
        scale="log",
        step=1.03,
        ticks=(1000, 3000, 6000, 12_000),
        hint="above this highs decay by their own factor; lows are those below 250 Hz",
    )
    size_m: float = value(
        6.0, 3, 25, "m", "size", scale="log", step=1.04, ticks=(3, 5, 10, 25), hint="across"
    )
    pre_delay_ms: float = value(10.0, 0, 250, "ms", "pre-delay", step=1, ticks=(0, 50, 100, 250))
    early: float = value(
        0.4, 0, 1, "×", "early", step=0.05, ticks=(0, 0.5, 1), hint="early reflections of a room"
    )
    width: float = value(1.0, 0, 1, "×", "width", step=0.05, ticks=(0, 0.5, 1), hint="0 is mono")
    low_cut_hz: float = value(
        150.0, 10, 1000, "Hz", "low cut", scale="log", step=1.04, ticks=(10, 100, 300, 1000)
    )
    high_cut_hz: float = value(
        9000.0,
        1000,
        20_000,
        "Hz",
        "high cut",
        scale="log",
        step=1.03,
        ticks=(1000, 3000, 10_000, 20_000),
    )
    mod_ms: float = value(
        0.1, 0, 1, "ms", "modulation", step=0.02, ticks=(0, 0.5, 1), hint="how far the tail swings"
    )
    mod_hz: float = value(
        0.7, 0.1, 3, "Hz", "modulation rate", scale="log", step=1.05, ticks=(0.1, 0.3, 1, 3)
    )
    mix: float = value(
        0.3, 0, 1, "×", "mix", step=0.02, ticks=(0, 0.25, 0.5, 0.75, 1), hint="0 dry, 1 wet only"
    )

    @property
    def is_transparent(self) -> bool:
        """Whether no room is heard."""
        return not self.on or self.mix == 0.0

    @property
    def setup(self) -> room.Settings:
        """The kernel's settings."""
        is_plate = self.surface == "plate"
        return room.Settings(
            self.pre_delay_ms,
            self.size_m,
            self.decay_s,
            self.low_factor,
            self.high_factor,
            self.high_hz,
            0.0 if is_plate else self.early * EARLY_GAIN,
            self.width,
            self.low_cut_hz,
            self.high_cut_hz,
            self.mod_ms,
            self.mod_hz,
        )

    def process(self, rate: int) -> "RoomProcess":
        """The room at a rate."""
        return RoomProcess(self, rate)


class RoomProcess:
    """A room at a rate; what goes in on one side comes back on both."""

    latency = 0

    def __init__(self, part: Room, rate: int) -> None:
        self.rate, self.setup, self.mix = rate, part.setup, part.mix
        self.memory = room.memory(self.setup, rate)

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["room", 1, repr(self.setup), self.mix, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return room.new_state(self.setup, self.rate)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` in its room."""
        wet = room.run(audio, self.setup, self.rate, state, at)
        if self.mix == 1.0:
            return wet
        return audio * np.float32(1 - self.mix) + wet * np.float32(self.mix)
