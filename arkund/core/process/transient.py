"""The transient shaper, in one to four bands."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from arkund.core.process.holding import held_back
from arkund.core.process.key import Key
from arkund.core.process.split import Split
from arkund.core.process.stage import Audio, Id, Stage
from arkund.core.process.values import Part, value
from arkund.core.shape import transient
from arkund.core.shape.sides import louder_side
from arkund.core.units import ms_to_samples

MOST_BANDS_ABOVE = 3


def _attack() -> Any:
    return value(
        0.0,
        -12,
        12,
        "dB",
        "attack",
        step=0.25,
        ticks=(-12, -6, 0, 6, 12),
        hint="the first milliseconds",
    )


def _sustain() -> Any:
    return value(
        0.0, -24, 12, "dB", "sustain", ticks=(-24, -12, 0, 12), hint="the ring after the attack"
    )


class BandAbove(Part):
    """A band from a frequency up to the next one's, with an attack and a sustain of its own."""

    id: Id
    frequency_hz: float = value(
        1000.0,
        40,
        12000,
        "Hz",
        "from",
        scale="log",
        step=1.03,
        ticks=(100.0, 300.0, 1000.0, 3000.0, 10000.0),
        hint="the bands below end here",
    )
    attack_db: float = _attack()
    sustain_db: float = _sustain()


class Transient(Stage):
    """More or less attack and sustain, at most so many dB, whatever the level. With ``bands`` its own attack and
    sustain are of what lies below the lowest of them."""

    label: ClassVar[str] = "transient"
    about: ClassVar[str] = "More or less attack, more or less sustain, in up to four bands."

    busy: ClassVar[dict[str, Any]] = {"attack_db": 3}

    kind: Literal["transient"] = "transient"
    id: Id = "transient"
    attack_db: float = _attack()
    sustain_db: float = _sustain()
    lookahead_ms: float = value(
        0.0, 0, 10, "ms", "lookahead", step=0.1, ticks=(0, 2, 5, 10), hint="rises before a hit"
    )
    bands: tuple[BandAbove, ...] = Field((), max_length=MOST_BANDS_ABOVE)
    key: Key = Key()

    @model_validator(mode="after")
    def _bands_have_ids_of_their_own(self) -> "Transient":
        if len({b.id for b in self.bands}) < len(self.bands):
            raise ValueError("two bands have one id")
        return self

    @property
    def above(self) -> list[BandAbove]:
        """The bands over the lowest, rising."""
        return sorted(self.bands, key=lambda band: band.frequency_hz)

    def in_bands(self, sound: Audio, rate: int) -> list[Audio]:
        """``sound`` ``(frames,)`` as it is split, from the lowest band to the highest."""
        split = Split([band.frequency_hz for band in self.above], rate)
        return split.run(sound, np.zeros(split.size(1)))

    @property
    def is_transparent(self) -> bool:
        """Whether nothing is more or less."""
        every: tuple[Transient | BandAbove, ...] = (self, *self.bands)
        idle = all(one.attack_db == 0.0 and one.sustain_db == 0.0 for one in every)
        return not self.on or idle

    def process(self, rate: int) -> "TransientProcess":
        """The shaper at a rate."""
        return TransientProcess(self, rate)


class TransientProcess:
    """The shaper at a rate; both sides get the gain of the louder one."""

    def __init__(self, part: Transient, rate: int) -> None:
        self.rate = rate
        bands: tuple[Transient | BandAbove, ...] = (part, *part.above)
        self.bands = [transient.Settings(one.attack_db, one.sustain_db) for one in bands]
        self.split = Split([band.frequency_hz for band in part.above], rate)
        self.latency = ms_to_samples(part.lookahead_ms, rate)
        self.memory = transient.memory(rate) + self.split.memory + self.latency

    def settings(self) -> Any:
        """What its sound rests on."""
        bands = [[s.attack_db, s.sustain_db] for s in self.bands]
        return ["transient", 2, bands, self.split.edges_hz, self.latency, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest: each band's followers, what splits sound and key, the samples still held back."""
        followers = len(self.bands) * transient.new_state().size
        return np.zeros(followers + 2 * self.split.size(2) + 2 * self.latency)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` shaped, by how the ``key`` begins and rings where there is one."""
        size, split = transient.new_state().size, self.split.size(2)
        followers = state[: len(self.bands) * size].reshape(len(self.bands), size)
        own, other, held = np.split(state[followers.size :], [split, 2 * split])
        sound = held_back(audio, held, self.latency)
        heard = audio if key is None else key
        if len(self.bands) == 1:
            level = None if heard is sound else heard
            return transient.run(sound, self.bands[0], self.rate, followers[0], level)
        parts = self.split.run(sound, own)
        levels = parts if heard is sound else self.split.run(heard, other)
        out = sound.copy()
        for part, level, settings, follower in zip(
            parts, levels, self.bands, followers, strict=True
        ):
            if not settings.is_transparent:
                out += transient.run(part, settings, self.rate, follower, louder_side(level)) - part
        return out
