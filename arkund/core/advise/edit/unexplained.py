"""Edit: transients that no hit of the hit list accounts for; a forgotten tom is among them."""

import numpy as np

from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.hits.hear.novelty import band_energy, candidates
from arkund.core.kit.roles import is_shell, label
from arkund.core.measure.levels import hit_peaks
from arkund.core.units import amplitudes_to_db

NAME = "unexplained"
ACCOUNTED_S = 0.035
"""A hit of any piece this close accounts for a transient."""

LEAST_RISE_DB = 9.0
UNDER_TYPICAL_DB = 16.0
"""What lies further under its drum's typical hit is taken for bleed of something unheard."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """One finding with the list of places, loudest drum first where several mics hear one."""
    times = np.array([h.time_s for h in study.hits])
    found: list[tuple[float, str, float]] = []
    for piece in study.pieces:
        mic = study.close(piece)[0]
        typical = study.facts.measures.get(mic, {}).get("typical_hit_dbfs")
        if not is_shell(piece) or typical is None or study.sheet.mics[mic].mute:
            continue
        sound = study.sound(mic, "source")
        bands = band_energy(sound, study.rate)
        frames = candidates(bands, LEAST_RISE_DB)
        at = frames * bands.hop / study.rate
        if len(times):
            near = np.abs(at[:, None] - times[None, :]).min(axis=1, initial=np.inf)
            at = at[near > ACCOUNTED_S]
        levels = amplitudes_to_db(hit_peaks(sound, study.rate, list(at)))
        found += [
            (float(t), piece, float(level - typical))
            for t, level in zip(at, levels, strict=True)
            if level > typical - UNDER_TYPICAL_DB
        ]
    places = _merged(found)
    if not places:
        return []
    first = places[0]
    bar = study.bar_of(first[0])
    count = len(places)
    return [
        Finding(
            NAME,
            "places",
            "song",
            f"No hit in the list explains {count} transient{'s' if count > 1 else ''}, the first near "
            f"the {label(first[1])} in bar {bar}: missed hits, or sticks and noise. Step through them "
            "with U and add what is a hit.",
            {"count": count, "places": [[round(t, 4), p, round(db, 1)] for t, p, db in places]},
            0.7,
            mic=study.close(first[1])[0],
            bars=study.bars_around(first[0]),
        )
    ]


def _merged(found: list[tuple[float, str, float]]) -> list[tuple[float, str, float]]:
    """One place for what several mics hear within `ACCOUNTED_S`: at the drum it is loudest on."""
    out: list[tuple[float, str, float]] = []
    for place in sorted(found):
        if out and place[0] - out[-1][0] < ACCOUNTED_S:
            out[-1] = max(out[-1], place, key=lambda p: p[2])
        else:
            out.append(place)
    return out


MODULE = Module(
    NAME,
    "edit",
    1,
    lambda sheet: ["kit"],
    lambda sheet, subject: [(n, m.mute) for n, m in sorted(sheet.mics.items())],
    find,
)
