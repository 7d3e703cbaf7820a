"""A cut that a later EQ boosts back: less of both, so that every mic on the way sounds as it did."""

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from arkund.core.advise.eq.ears import Opposed, channels_on_the_way, net_curve
from arkund.core.process.band import Band
from arkund.core.process.equaliser import Equaliser
from arkund.core.sheet.channels import DRUM_BUS, Channel
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet

REACH_OCTAVES = 0.5
"""A band so near to where two channels oppose each other is the one that does it."""

SAME_DB, NOTHING_DB = 1.0, 0.05


@dataclass(frozen=True)
class Merge:
    """What to set, by how much both bands shrink, and by how many dB any mic's EQ curve changes at most."""

    patch: dict[str, Any]
    by_db: float
    off_db: float


@dataclass(frozen=True)
class _Found:
    path: str
    band: Band


def merge_of(sheet: Sheet, mic: str, opposed: Opposed) -> Merge | None:
    """The smaller of both bands taken away, and as much of the larger. What the group's band did for its other mics
    goes into a free band of theirs. None where the drum bus takes part, since all mics run through it, where a layer
    runs through the group, where a mic has no free band, or where some curve would change by more than `SAME_DB`."""
    group = sheet.mics[mic].to
    if DRUM_BUS in (opposed.cuts[0], opposed.boosts[0]):
        return None
    if any(layer.to == group for layer in sheet.layers.values()):
        return None
    cut = _band_at(sheet, mic, opposed.cuts[0], opposed.hz, -1)
    boost = _band_at(sheet, mic, opposed.boosts[0], opposed.hz, 1)
    if cut is None or boost is None:
        return None
    by = min(-cut.band.gain_db, boost.band.gain_db)
    patch = _shrunk(cut, by) | _shrunk(boost, -by)
    of_group, sign = (boost, 1) if opposed.boosts[0] == group else (cut, -1)
    others = [m for m in sounding_mics(sheet) if m != mic and sheet.mics[m].to == group]
    for other in others:
        free = _free_band(sheet.mics[other], f"mics.{other}")
        if free is None:
            return None
        band = of_group.band
        patch |= {
            f"{free}.on": True,
            f"{free}.kind": band.kind,
            f"{free}.frequency_hz": band.frequency_hz,
            f"{free}.q": band.q,
            f"{free}.gain_db": round(sign * by, 2),
        }
    made = apply_patch(sheet, patch)
    off = max(_apart_db(sheet, made, one) for one in (mic, *others))
    return Merge(patch, by, off) if off <= SAME_DB else None


def _band_at(sheet: Sheet, mic: str, channel: str, hz: float, sign: int) -> _Found | None:
    """The strongest band of a channel near a frequency that cuts (−1) or boosts (1) and stands."""
    table = "mics" if channel == mic else "groups"
    found = [
        (abs(band.gain_db), _Found(f"{table}.{channel}.chain.{eq.id}.bands.{band.id}", band))
        for eq in channels_on_the_way(sheet, mic)[channel].stages(Equaliser)
        if eq.on
        for band in _plain_bands(eq)
        if band.gain_db * sign > 0 and abs(np.log2(band.frequency_hz / hz)) <= REACH_OCTAVES
    ]
    return max(found, key=lambda one: one[0])[1] if found else None


def _plain_bands(eq: Equaliser) -> Iterator[Band]:
    return (band for band in eq.bands if band.stands and not band.moves and band.kind != "notch")


def _shrunk(one: _Found, by: float) -> dict[str, Any]:
    gain = round(one.band.gain_db + by, 2)
    return {f"{one.path}.gain_db": gain, f"{one.path}.on": abs(gain) > NOTHING_DB}


def _free_band(channel: Channel, path: str) -> str | None:
    eq = channel.first(Equaliser)
    band = next((b for b in eq.bands if not b.on), None) if eq is not None and eq.on else None
    return f"{path}.chain.{eq.id}.bands.{band.id}" if eq is not None and band is not None else None


def _apart_db(sheet: Sheet, made: Sheet, mic: str) -> float:
    return float(np.abs(net_curve(made, mic).total - net_curve(sheet, mic).total).max())
