"""A hat that is played louder in one section than in the others, and its mic lowered in those bars."""

from collections import defaultdict

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.sections.fits import called, section_of
from arkund.core.advise.sections.more import STATION
from arkund.core.advise.study import Study
from arkund.core.kit.roles import label
from arkund.core.measure.levels import hit_peaks
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db

NAME = "louder"

FEWEST_HITS, LEAST_DB, MOST_DB = 12, 3.0, 6.0
"""So many hits tell how a section is played; a difference of less is playing, and no more of it is taken back."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """The section in which a hat's typical hit is louder by `LEAST_DB` than in the rest of the song."""
    piece = study.sheet.mics[mic].name.piece
    shift = study.sheet.mics[mic].delay_samples / study.rate
    times = defaultdict(list)
    for hit in study.hits:
        if hit.piece == piece and (section := section_of(study, hit)):
            times[called(section)].append(hit.time_s + shift)
    sound = study.sound(mic, "placed")
    levels = {
        name: amplitudes_to_db(hit_peaks(sound, study.rate, own))
        for name, own in times.items()
        if len(own) >= FEWEST_HITS
    }
    if len(levels) < 2:
        return []
    loudest = max(levels, key=lambda name: float(np.median(levels[name])))
    rest = np.concatenate([own for name, own in levels.items() if name != loudest])
    over = float(np.median(levels[loudest]) - np.median(rest))
    if over < LEAST_DB:
        return []
    by_db = -round(min(over, MOST_DB) * 2) / 2
    sections = [one for one in study.sheet.sections if called(one) == loudest]
    bars = ", ".join(f"{one.start_bar}-{one.start_bar + one.bars - 1}" for one in sections)
    taken = {one.id for one in study.sheet.over}
    free = next(name for n in range(1, 1000) if (name := f"even{n}") not in taken)
    difference = {"path": f"mics.{mic}.fader_db", "bars": bars, "value": by_db, "by": True}
    return [
        Finding(
            NAME,
            "section",
            mic,
            spoken(
                f"{label(mic).capitalize()} is played {over:.1f} dB louder in the {loudest} "
                f"({len(levels[loudest])} hits) than in the rest of the song. Its mic {-by_db:g} dB down in those bars "
                f"evens that in the mix."
            ),
            {"over_rest_db": round(over, 1)},
            0.7,
            {f"over.{free}": difference},
            {"over_rest_db": Change(round(over, 1), round(over + by_db, 1))},
            mic=mic,
            bars=(sections[0].start_bar, sections[0].start_bar + sections[0].bars - 1),
            asks=True,
        )
    ]


def _subjects(sheet: Sheet) -> list[str]:
    """Hat mics in use whose fader is the same throughout, in a song with sections."""
    differs = {one.path for one in sheet.over}
    return [
        name
        for name, mic in sheet.mics.items()
        if sheet.sections
        and mic.role == "hat"
        and not (mic.unused or mic.mute)
        and f"mics.{name}.fader_db" not in differs
    ]


def _reads(sheet: Sheet, mic: str) -> list[object]:
    own = sheet.mics[mic]
    return [own.repair, own.trim_db, own.polarity, own.delay_samples, sheet.sections, sheet.over]


MODULE = Module(NAME, STATION, 1, _subjects, _reads, find)
