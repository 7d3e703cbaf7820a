"""The punch of a stored song's mix at each blend of a parallel bus."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.goal import hits_in
from arkund.core.measure.punch import Card, punch_card
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db
from arkund.songs.facts import hits_of
from arkund.songs.rendering import render_span

BLENDS_DB = (-40.0, -32.0, -26.0, -21.0, -17.0, -13.0, -9.0, -5.0, 0.0, 6.0)

LEAST_DB = 0.1
"""Less is no change."""

LEADING = ("kick", "snare")
"""What a mix's punch is heard by."""


@dataclass(frozen=True)
class Blended:
    """By how many dB the attack of kick and snare rises at equal loudness, their mean, against the bus shut:
    ``punch_db`` at each of `BLENDS_DB`; and the mix's peak there, ``peak_dbfs``."""

    punch_db: NDArray[np.float64]
    peak_dbfs: NDArray[np.float64]

    @property
    def full_from_db(self) -> float | None:
        """The blend from which on the mix goes over full scale; None where it never does."""
        over = np.flatnonzero(self.peak_dbfs > 0.0)
        if not len(over):
            return None
        n = int(over[0])
        if n == 0:
            return BLENDS_DB[0]
        below, above = self.peak_dbfs[n - 1], self.peak_dbfs[n]
        share = float(-below / max(above - below, 1e-9))
        return BLENDS_DB[n - 1] + share * (BLENDS_DB[n] - BLENDS_DB[n - 1])

    @property
    def best(self) -> int:
        """Which blend gives most."""
        return int(np.argmax(self.punch_db))

    @property
    def is_heard(self) -> bool:
        """Whether the bus moves the punch at all."""
        return float(np.abs(self.punch_db).max()) >= LEAST_DB

    @property
    def said(self) -> str:
        """The curve in a sentence."""
        most = self.punch_db[self.best]
        if not self.is_heard:
            return "the attack of kick and snare stays as it is at any blend"
        if most < LEAST_DB:
            return "curve: attack of kick and snare at equal loudness; the bus takes some of it"
        at = f"{BLENDS_DB[self.best]:.0f}".replace("-", "−")
        return f"curve: attack of kick and snare at equal loudness; most at {at} dB, +{most:.1f} dB"


def punch_over_blend(sheet: Sheet, bus: str, span: tuple[int, int]) -> Blended | None:
    """Punch over the blend of a bus, rendered over a ``span`` of samples; None where neither kick nor snare is hit
    there."""
    rate = sheet.rate
    start, stop = span
    here = [h for h in hits_of(sheet) if start <= h.time_s * rate < stop]
    hits = hits_in(here, (start / rate, stop / rate), fewest=1)
    if not set(LEADING) & set(hits.shells):
        return None

    def heard(blend_db: float) -> tuple[float, float]:
        patch = {f"buses.{bus}.fader_db": blend_db, f"buses.{bus}.mute": False}
        mix = render_span(apply_patch(sheet, patch), "output", "now", start, stop)
        peak = amplitude_to_db(float(np.abs(mix).max(initial=0.0)))
        return _attack_db(punch_card(mix, rate, hits)), peak

    shut, _ = heard(OFF_DB)
    attacks, peaks = zip(*(heard(db) for db in BLENDS_DB), strict=True)
    return Blended(np.array(attacks) - shut, np.array(peaks))


def _attack_db(card: Card) -> float:
    return float(np.mean([card.attack_db(piece) for piece in LEADING if piece in card.shells]))
