"""Free bands of a mic's EQ, and what stands in those that are taken."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.study import Study
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.decimate import decimated
from arkund.core.process.equaliser import Equaliser, equaliser_sections
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import stage_path

NAME = "eq"

BODY, RING, BOX, ATTACK = range(4)
"""The band that each landmark prefers."""


@dataclass(frozen=True)
class Place:
    """A band for a landmark: its number in the equaliser and its path."""

    band: int
    path: str


def free_band(study: Study, mic: str, wish: int, taken: set[int]) -> Place | None:
    """The wished band if nothing stands in it, else the first free one."""
    eq = study.sheet.mics[mic].first(Equaliser)
    if eq is None:
        return None
    bands = eq.bands
    for n in (wish, *range(len(bands))):
        is_free = n < len(bands) and not (bands[n].on and (bands[n].gain_db or bands[n].range_db))
        if is_free and n not in taken:
            taken.add(n)
            return Place(n, f"{stage_path(f'mics.{mic}', eq)}.bands.{bands[n].id}")
    return None


def treated(study: Study, mic: str, hz: float, sign: int, octaves: float = 0.35) -> bool:
    """Whether a band already boosts (or cuts) near a frequency."""
    return any(
        eq.on
        and b.on
        and (b.gain_db + b.range_db) * sign > 0
        and abs(np.log2(b.frequency_hz / hz)) < octaves
        for eq in study.sheet.mics[mic].stages(Equaliser)
        for b in eq.bands
    )


def band_patch(place: Place, hz: float, gain_db: float, q: float) -> dict[str, object]:
    """The patch that makes a band a bell of ``gain_db`` at ``hz`` with a quality of ``q``."""
    return {
        f"{place.path}.on": True,
        f"{place.path}.kind": "bell",
        f"{place.path}.frequency_hz": round(hz, 1),
        f"{place.path}.gain_db": round(gain_db, 1),
        f"{place.path}.q": q,
    }


def gain_at_db(eq: Equaliser, hz: float, rate: int) -> float:
    """What an equaliser adds at a frequency, in dB."""
    if not eq.on:
        return 0.0
    value = response_db(equaliser_sections(eq, rate), np.array([hz]), rate)
    return float(value[0]) + eq.output_db


def spectrum_below(
    audio: NDArray[np.float32], rate: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Power in each bin and the bins in Hz, right up to 400 Hz. Blackman's window keeps a loud drum's
    lines from leaking under it."""
    factor = rate // 2400
    low = decimated(audio, factor)
    size = 32768 // factor
    bins, power = scipy.signal.welch(low, rate / factor, "blackman", nperseg=size, detrend=False)
    return np.asarray(power * bins[1], np.float64), np.asarray(bins, np.float64)


def fundamental(study: Study, mic: str) -> float:
    """The fundamental of a mic's drum in Hz; 0 where none stands out."""
    return drum_hz(study, parse_mic_name(mic).piece or "")
