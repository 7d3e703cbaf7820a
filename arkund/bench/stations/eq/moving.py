"""Shape, EQ: what bands that move do: to this drum's hits, and to what else its mic hears."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.bench.drawing import bars_of, whole
from arkund.core.advise.finding import spoken
from arkund.core.graph.graph import Chained
from arkund.core.hits.hit import Hit
from arkund.core.measure.hits import HitSpectrum, hit_spectrum
from arkund.core.process.band import Band, moving_band
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape import moving
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.sheet import Sheet
from arkund.songs.facts import hits_of

HIT_S = 0.03
"""A hit's level in a band is its peak within so long."""


@dataclass(frozen=True)
class Moving:
    """What is drawn and said of moving bands: the gain that hits really get and the one they could get at
    most, in dB ``(bins,)``, a sentence a band, and what stands in their rulers."""

    gain_db: NDArray[np.float64] | None = None
    reach_db: NDArray[np.float64] | None = None
    said: Sequence[str] = ()
    rulers: Mapping[str, Any] = field(default_factory=dict)


def moving_of(
    sheet: Sheet, chained: Chained, eq: Equaliser, path: str, hits: list[Hit], found: HitSpectrum
) -> Moving:
    """Measured on the whole song: the spectrum before the EQ is ``found``, the one behind it is compared."""
    bands = [(n, b) for n, b in enumerate(eq.bands, start=1) if b.moves]
    if not bands or eq.id not in chained.after:
        return Moving()
    rate, ids = sheet.rate, {h.id for h in hits}
    own = [h.time_s for h in hits]
    others = [h.time_s for h in hits_of(sheet) if h.id not in ids]
    behind = hit_spectrum(_mono(whole(sheet, chained.after[eq.id])), rate, own, others)
    before = _mono(whole(sheet, chained.before(eq.id)))
    widest = eq.model_copy(update={"bands": tuple(_at_its_end(b) for b in eq.bands)})
    on_hits, on_bleed = behind.hits_db - found.hits_db, behind.bleed_db - found.bleed_db
    still = response_db(equaliser_sections(eq, rate), found.hz, rate) + eq.output_db
    said, rulers = [], {}
    for number, band in bands:
        at = int(np.argmin(np.abs(found.hz - band.frequency_hz)))
        said.append(
            spoken(
                f"Band {number} moves {band.frequency_hz:.0f} Hz by {on_hits[at] - still[at]:+.1f} dB "
                f"at this drum's hits, and by {on_bleed[at] - still[at]:+.1f} dB at those of others."
            )
        )
        if band.hears == "band":
            rulers[f"{path}.bands.{band.id}.threshold_db"] = _levels(
                before, band, rate, own, others
            )
    reach = response_db(equaliser_sections(widest, rate), found.hz, rate) + eq.output_db
    return Moving(on_hits, reach, said, rulers)


def _at_its_end(band: Band) -> Band:
    """A band that stands where it could move to, within what a band can do."""
    if not band.moves:
        return band
    gain = min(max(band.gain_db + band.range_db, -24.0), 24.0)
    return band.model_copy(update={"gain_db": gain, "range_db": 0.0})


def _mono(sound: NDArray[np.float32]) -> NDArray[np.float32]:
    return sound if sound.ndim == 1 else np.ascontiguousarray(sound.mean(axis=1))


def _levels(
    sound: NDArray[np.float32], band: Band, rate: int, own: list[float], others: list[float]
) -> dict[str, Any]:
    """The peaks that a band's detector hears at this drum's hits and at others', and a place between."""
    alone = np.abs(moving.band_alone(sound, moving_band(band, rate), np.zeros((1, 2))))
    mine, theirs = (_peaks_db(alone, rate, times) for times in (own, others))
    out: dict[str, Any] = {
        "bars": bars_of(theirs, -60, 0, 40, "bleed") + bars_of(mine, -60, 0, 40, "own")
    }
    if len(mine) and len(theirs):
        low, high = np.percentile(theirs, 90), np.percentile(mine, 25)
        if high > low:
            out["proposed"] = round(float((low + high) / 2), 1)
            out["note"] = f"{high - low:.1f} dB between other hits and this drum's"
    return out


def _peaks_db(level: NDArray[np.float32], rate: int, times: list[float]) -> NDArray[np.float64]:
    spans = [(round(t * rate), round((t + HIT_S) * rate)) for t in times]
    peaks = [float(level[a:b].max(initial=0.0)) for a, b in spans if 0 <= a < len(level)]
    return 20 * np.log10(np.maximum(peaks, 1e-7)) if peaks else np.zeros(0)
