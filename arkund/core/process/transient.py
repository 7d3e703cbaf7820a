"""The transient shaper."""

from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.key import Key
from arkund.core.process.stage import Audio, Id, Stage
from arkund.core.process.values import value
from arkund.core.shape import transient


class Transient(Stage):
    """More or less attack and sustain, at most so many dB, whatever the level."""

    label: ClassVar[str] = "transient"
    about: ClassVar[str] = "More or less attack, more or less sustain."

    busy: ClassVar[dict[str, Any]] = {"attack_db": 3}

    kind: Literal["transient"] = "transient"
    id: Id = "transient"
    attack_db: float = value(
        0.0,
        -12,
        12,
        "dB",
        "attack",
        step=0.25,
        ticks=(-12, -6, 0, 6, 12),
        hint="the first milliseconds",
    )
    sustain_db: float = value(
        0.0, -24, 12, "dB", "sustain", ticks=(-24, -12, 0, 12), hint="the ring after the attack"
    )

    key: Key = Key()

    @property
    def is_transparent(self) -> bool:
        """Whether nothing is more or less."""
        return not self.on or (self.attack_db == 0.0 and self.sustain_db == 0.0)

    def process(self, rate: int) -> "TransientProcess":
        """The shaper at a rate."""
        return TransientProcess(self, rate)


class TransientProcess:
    """The shaper at a rate; both sides get the gain of the louder one."""

    latency = 0

    def __init__(self, part: Transient, rate: int) -> None:
        self.rate, self._settings = rate, transient.Settings(part.attack_db, part.sustain_db)
        self.memory = transient.memory(rate)

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["transient", 1, self._settings.attack_db, self._settings.sustain_db, self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return transient.new_state()

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` shaped, by how the ``key`` begins and rings where there is one."""
        return transient.run(audio, self._settings, self.rate, state, key)
