"""Overheads towards pink: what stands out over octaves, taken back by a tenth, for an ear to decide."""

from dataclasses import dataclass

import numpy as np
import scipy

from arkund.core.advise.eq.bands import band_patch, free_band
from arkund.core.advise.finding import spoken
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label

OCTAVES_HZ = (125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
SHARE, LEAST_DB, BROAD = 0.1, 0.5, 0.8
"""So much of the way is gone; a band that would change by less is left; the bells' width."""


def octaves_db(study: Study, mic: str) -> np.ndarray:
    """Power of a mic, gate included, in each octave of `OCTAVES_HZ` against their mean, in dB: all 0 of pink
    noise."""
    hz, power = scipy.signal.welch(study.sound(mic, "clean"), study.rate, nperseg=8192)
    found = [
        float(power[(hz >= middle / 2**0.5) & (hz < middle * 2**0.5)].sum())
        for middle in OCTAVES_HZ
    ]
    db = 10 * np.log10(np.array(found) + 1e-20)
    return np.asarray(db - db.mean())


@dataclass(frozen=True)
class ToPink:
    """What would take a mic a tenth of the way: a sentence and the patch."""

    said: str
    patch: dict[str, object]


def to_pink(study: Study, mic: str) -> ToPink | None:
    """A tenth of the way to equal power in every octave, by broad bells where that is half a dB or more; None where
    nothing would change, or no band is free. No finding: how bright overheads should be is a matter of taste."""
    taken: set[int] = set()
    patch: dict[str, object] = {}
    parts = []
    away = octaves_db(study, mic)
    for n in np.argsort(-np.abs(away), kind="stable"):
        gain = round(float(-SHARE * away[n]), 1)
        place = free_band(study, mic, len(taken), taken) if abs(gain) >= LEAST_DB else None
        if place is None:
            break
        patch |= band_patch(place, OCTAVES_HZ[n], gain, BROAD)
        parts.append(f"{gain:+.1f} dB at {OCTAVES_HZ[n]:.0f} Hz")
    if not patch:
        return None
    most = float(np.abs(away).max())
    said = (
        f"The octaves of {label(mic)} lie up to {most:.0f} dB off an even balance; a tenth of the way back is "
        f"{', '.join(parts)}."
    )
    return ToPink(spoken(said), patch)
