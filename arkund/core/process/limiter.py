"""The limiter."""

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio, Id, Measured, Stage
from arkund.core.process.values import time_ms, value
from arkund.core.shape import limiter


class Limiter(Stage):
    """No true peak over the ceiling; both sides get the gain of the louder one."""

    label: ClassVar[str] = "limiter"
    about: ClassVar[str] = "Holds true peaks under a ceiling."
    reduces: ClassVar[bool] = True
    measured: ClassVar[Mapping[str, Measured]] = {"ceiling_db": "peaks", "release_ms": "gaps"}

    kind: Literal["limiter"] = "limiter"
    id: Id = "limiter"
    ceiling_db: float = value(
        -1.0,
        -24,
        0,
        "dBTP",
        "ceiling",
        ticks=(-24, -18, -12, -6, 0),
        hint="bars: peaks of the hits at its input",
    )
    lookahead_ms: float = time_ms(
        1.5,
        0.1,
        10,
        "lookahead",
        step=1.08,
        ticks=(0.1, 0.3, 1, 3, 10),
        hint="shorter is louder and rougher",
    )
    release_ms: float = time_ms(
        60.0, 1, 1000, "release", ticks=(1, 10, 100, 1000), hint="bars: time to the next hit"
    )

    def transfer_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Steady levels ``(n,)``, no higher than the ceiling."""
        return np.minimum(levels_db, self.ceiling_db)

    def noted(self, peaks_db: NDArray[np.float64], top_dbtp: float) -> Mapping[str, str]:
        """How many hits ``(hits,)`` reach the ceiling."""
        over = int(np.sum(peaks_db > self.ceiling_db))
        loudest = f"{top_dbtp:+.1f}".replace("-", "−")
        return {
            "ceiling_db": f"{over} of {len(peaks_db)} hits reach it, the loudest {loudest} dBTP"
        }

    @property
    def setup(self) -> limiter.Settings:
        """The kernel's settings."""
        return limiter.Settings(self.ceiling_db, self.lookahead_ms, self.release_ms)

    def process(self, rate: int) -> "LimiterProcess":
        """The limiter at a rate."""
        return LimiterProcess(self, rate)


class LimiterProcess:
    """The limiter at a rate."""

    def __init__(self, part: Limiter, rate: int) -> None:
        self.rate, self.setup = rate, part.setup
        self.latency = limiter.latency(self.setup, rate)
        self.memory = limiter.memory(self.setup, rate)

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["limiter", 1, repr(self.setup), self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return limiter.new_state(self.setup, self.rate, channels)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)`` limited."""
        return self.run_traced(audio, state)[0]

    def run_traced(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None
    ) -> tuple[Audio, NDArray[np.float32]]:
        """Output and the reduction in dB, a point every `limiter.TRACE_STEP` samples."""
        return limiter.run(audio, self.setup, self.rate, state)
