"""Overheads towards pink: what stands out over octaves, taken back by a tenth, for an ear to decide."""

import numpy as np
import scipy

from arkund.core.advise.eq.bands import NAME, band_patch, free_band
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.school import School
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


def to_pink(study: Study, mic: str, school: School) -> list[Finding]:
    """A tenth of the way to equal power in every octave, by broad bells where that is half a dB or more."""
    taken: set[int] = set()
    patch: dict[str, object] = {}
    parts, measured = [], {}
    away = octaves_db(study, mic)
    for n in np.argsort(-np.abs(away), kind="stable"):
        gain = round(float(-SHARE * away[n]), 1)
        if abs(gain) < LEAST_DB:
            break
        place = free_band(study, mic, len(taken), taken)
        if place is None:
            break
        patch |= band_patch(place, OCTAVES_HZ[n], gain, BROAD)
        parts.append(f"{gain:+.1f} dB at {OCTAVES_HZ[n]:.0f} Hz")
        measured[f"octave_{OCTAVES_HZ[n]:.0f}_db"] = round(float(away[n]), 1)
    if not patch:
        return []
    most = float(np.abs(away).max())
    return [
        Finding(
            NAME,
            "pink",
            mic,
            spoken(
                f"The octaves of {label(mic)} lie up to {most:.0f} dB off an even balance. A tenth of the way "
                f"back, heard as one colour: {', '.join(parts)}."
            ),
            measured,
            0.7,
            patch,
            {"octaves_off_db": Change(round(most, 1), round(most * (1 - SHARE), 1))},
            mic=mic,
            asks=True,
        )
    ]
