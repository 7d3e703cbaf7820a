"""Saturation."""

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.process.stage import Audio, Id, Stage
from arkund.core.process.values import choice, switch, value
from arkund.core.shape import saturation
from arkund.core.units import amplitudes_to_db

CURVES = {
    "soft": saturation.SOFT,
    "hard": saturation.HARD,
    "asymmetrical": saturation.ASYMMETRICAL,
}


QUIET_DB = -80.0
"""Sound as soft as this does not bend."""


class Saturation(Stage):
    """Peaks bend: soft, hard, or asymmetrical; applied at four times the rate, steep ones at eight."""

    label: ClassVar[str] = "saturation"
    about: ClassVar[str] = "Rounds off peaks: a denser drum, with harmonics."

    kind: Literal["saturation"] = "saturation"
    id: Id = "saturation"
    curve: Literal["soft", "hard", "asymmetrical"] = choice("soft", "curve")
    drive_db: float = value(
        6.0,
        0,
        24,
        "dB",
        "drive",
        ticks=(0, 6, 12, 18, 24),
        hint="mark: above this, 1 hit in 10 is saturated by 1 dB or more",
    )
    matched: bool = switch(True, "output matched")
    output_db: float = value(0.0, -24, 12, "dB", "output", ticks=(-24, -12, 0, 12))
    mix: float = value(
        1.0, 0, 1, "×", "mix", step=0.02, ticks=(0, 0.25, 0.5, 0.75, 1), hint="0 dry, 1 wet only"
    )

    @property
    def is_transparent(self) -> bool:
        """Whether nothing bends."""
        return not self.on or self.mix == 0.0

    def transfer_db(self, levels_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """Steady levels ``(n,)`` behind its curve."""
        return amplitudes_to_db(np.abs(saturation.bent(10 ** (levels_db / 20), self.setup)))

    def said_of(self, peaks_db: NDArray[np.float64], reduction_db: float) -> str:
        """How many hits' peaks ``(hits,)`` bend, and by how much the typical one."""
        if not len(peaks_db):
            return "no hit in these bars"
        lost = self._bent_by(peaks_db)
        return (
            f"{np.mean(lost >= 1):.0%} of hits bend by 1 dB or more, the typical one by "
            f"{np.median(lost):.1f} dB"
        )

    def noted(self, peaks_db: NDArray[np.float64], top_dbtp: float) -> Mapping[str, str]:
        """What it does to hits ``(hits,)``, beside the drive."""
        return {"drive_db": self.said_of(peaks_db, 0.0)}

    def proposed(self, peaks_db: NDArray[np.float64]) -> Mapping[str, float]:
        """The least drive at which one hit in ten ``(hits,)`` bends by 1 dB; none where none does."""
        for drive in np.arange(0, 24.5, 0.5):
            tried = self.model_copy(update={"drive_db": float(drive)})
            if len(peaks_db) and np.mean(tried._bent_by(peaks_db) >= 1) >= 0.1:
                return {"drive_db": float(drive)}
        return {}

    def _bent_by(self, peaks_db: NDArray[np.float64]) -> NDArray[np.float64]:
        """By how many dB more than soft sound each peak comes out lower."""
        small = self.transfer_db(np.array([QUIET_DB]))[0] - QUIET_DB
        return peaks_db + small - self.transfer_db(peaks_db)

    @property
    def setup(self) -> saturation.Settings:
        """The kernel's settings."""
        return saturation.Settings(
            CURVES[self.curve], self.drive_db, self.matched, self.output_db, self.mix
        )

    def process(self, rate: int) -> "SaturationProcess":
        """The curve at a rate."""
        return SaturationProcess(self, rate)


class SaturationProcess:
    """Saturation at a rate; each side by itself."""

    def __init__(self, part: Saturation, rate: int) -> None:
        self.rate, self.setup = rate, part.setup
        self.latency = saturation.latency()
        self.memory = 4 * saturation.TAPS

    def settings(self) -> Any:
        """What its sound rests on."""
        return ["saturation", 2, repr(self.setup), self.rate]

    def at_rest(self, channels: int = 1) -> NDArray[np.float64]:
        """State at rest."""
        return saturation.new_state(self.setup, channels)

    def run(
        self, audio: Audio, state: NDArray[np.float64], key: Audio | None = None, at: int = 0
    ) -> Audio:
        """``audio`` ``(frames,)`` or ``(frames, 2)``, saturated."""
        return saturation.run(audio, self.setup, state)
