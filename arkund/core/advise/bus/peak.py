"""Bus: where the mix comes out."""

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db

NAME = "mix"
PEAK_DBFS = (-10.0, -6.0)
"""Where the drum mix should peak before mastering."""


def peak_dbfs(study: Study) -> float:
    """Largest sample of the mix over the whole song in dBFS."""
    return amplitude_to_db(float(np.abs(study.mix()).max(initial=0.0)))


def find_mix(study: Study, subject: str, school: School) -> list[Finding]:
    """Where the mix peaks over the whole song, held against `PEAK_DBFS`."""
    now = peak_dbfs(study)
    if now <= -150 or PEAK_DBFS[0] <= now <= PEAK_DBFS[1]:
        return []
    level = study.sheet.drum_bus.fader_db
    wanted = round(float(np.clip(level + sum(PEAK_DBFS) / 2 - now, -60, 12)) * 2) / 2
    then = now + wanted - level
    over = " and clips" if now > 0 else ""
    return [
        Finding(
            NAME,
            "peak",
            DRUM_BUS,
            spoken(
                f"The mix peaks at {now:+.1f} dBFS{over}. The drum bus at {wanted:+.1f} dB brings it to "
                f"{then:.1f}, where mastering wants it."
            ),
            {"peak_dbfs": round(now, 1)},
            0.99,
            {"drum_bus.fader_db": wanted},
            {"peak_dbfs": Change(round(now, 1), round(then, 1))},
        )
    ]


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [sheet.mics, sheet.groups, sheet.buses, sheet.drum_bus, sheet.over]


MODULE = Module(NAME, "bus", 2, lambda sheet: [DRUM_BUS], _reads, find_mix)
