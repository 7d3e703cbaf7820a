"""More in the chorus: its returns and rooms raised so far that it is louder than the verse by what the school wants."""

from collections.abc import Sequence

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.goal import costs_a_goal, is_finished
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Section, Sheet
from arkund.core.sheet.tempo import grid_of

NAME, STATION = "sections", "sections"

WANTED_LU = {"punch": 1.5, "punch_size": 1.0, "size": 0.5}
"""By how much the chorus shall be louder than the verse, by a school's goal."""

CHORUS, VERSE = ("chorus", "refrain", "hook"), ("verse",)
NEAR_LU, LEAST_DB, MOST_DB, PROBE_DB = 0.25, 0.5, 6.0, 3.0
LISTENED_S = 24.0
"""So much of each is listened to, from its beginnings on."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """A chorus of a finished kit that is not louder than the verse by what the school wants, with how far its
    returns and rooms go up; none where that would cost the card a goal, or its bars differ there already."""
    sheet = study.sheet
    chorus, verse = _called(sheet, CHORUS), _called(sheet, VERSE)
    levers = levers_of(sheet)
    if not (chorus and verse and levers and is_finished(sheet)) or _differs(sheet, levers, chorus):
        return []
    wanted = WANTED_LU[school.goal]
    now = _louder_lu(study, chorus, verse)
    if now >= wanted - NEAR_LU:
        return []
    probed = _louder_lu(study.tried(raised(sheet, levers, chorus, PROBE_DB)), chorus, verse)
    slope = (probed - now) / PROBE_DB
    if slope <= 0.01:
        return []
    by_db = round(float(np.clip((wanted - now) / slope, LEAST_DB, MOST_DB)) * 2) / 2
    patch = raised(sheet, levers, chorus, by_db)
    tried = study.tried(patch)
    then = _louder_lu(tried, chorus, verse)
    if then < now + NEAR_LU or costs_a_goal(study, tried, school):
        return []
    return [
        Finding(
            NAME,
            "more",
            subject,
            spoken(
                f"The chorus is {abs(now):.1f} LU {'louder' if now >= 0 else 'softer'} than the verse; "
                f"{school.name} wants {wanted:g} LU louder. {_listed(levers)} up by {by_db:g} dB in its bars: "
                f"{then:.1f} LU."
            ),
            {"chorus_over_verse_lu": round(now, 1)},
            0.8,
            patch,
            {"chorus_over_verse_lu": Change(round(now, 1), round(then, 1))},
            row="goal",
            school=school.name,
            bars=_bars(chorus[0]),
            asks=True,
        )
    ]


def levers_of(sheet: Sheet) -> list[str]:
    """The faders that make a chorus larger and no hit harder: buses that are heard, and the rooms' group."""
    buses = [
        f"buses.{name}.fader_db"
        for name, bus in sheet.buses.items()
        if bus.fader_db > OFF_DB and not bus.mute and bus.sends
    ]
    return buses + [f"groups.{name}.fader_db" for name in sheet.groups if name == "rooms"]


def raised(sheet: Sheet, levers: Sequence[str], sections: Sequence[Section], by_db: float) -> Patch:
    """A difference for each fader over the bars of some sections."""
    bars = ", ".join("-".join(str(bar) for bar in _bars(one)) for one in sections)
    taken = {one.id for one in sheet.over}
    free = (f"more{n}" for n in range(1, 1000) if f"more{n}" not in taken)
    return {
        f"over.{next(free)}": {"path": path, "bars": bars, "value": by_db, "by": True}
        for path in levers
    }


def _listed(levers: Sequence[str]) -> str:
    names = [path.split(".")[1].replace("_", " ") for path in levers]
    listed = " and ".join([", ".join(names[:-1]), names[-1]] if names[1:] else names)
    return listed[:1].upper() + listed[1:]


def _called(sheet: Sheet, names: Sequence[str]) -> list[Section]:
    return [one for one in sheet.sections if one.name.lower().startswith(tuple(names))]


def _bars(section: Section) -> tuple[int, int]:
    return section.start_bar, section.start_bar + section.bars - 1


def _differs(sheet: Sheet, levers: Sequence[str], sections: Sequence[Section]) -> bool:
    """Whether one of the faders differs already somewhere in the sections' bars."""
    spans = [_bars(one) for one in sections]
    return any(
        first <= stop and start <= last
        for over in sheet.over
        if over.path in levers
        for first, last in over.spans
        for start, stop in spans
    )


def _louder_lu(study: Study, chorus: Sequence[Section], verse: Sequence[Section]) -> float:
    return _loudness(study, chorus) - _loudness(study, verse)


def _loudness(study: Study, sections: Sequence[Section]) -> float:
    """Of the mix over the first `LISTENED_S` of some sections."""
    rate, grid = study.rate, grid_of(study.sheet)
    left = round(LISTENED_S * rate)
    heard = []
    for one in sections:
        start, stop = grid.frames_of_bars(*_bars(one), rate)
        stop = min(stop, study.sheet.frames, start + left)
        if stop > start:
            heard.append(study.engine.read(study.graph.output, start, stop))
            left -= stop - start
    return loudness_lufs(np.concatenate(heard), rate) if heard else -np.inf


def _subjects(sheet: Sheet) -> list[str]:
    return [CHORUS[0]] if _called(sheet, CHORUS) and _called(sheet, VERSE) else []


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [
        sheet.mics,
        sheet.layers,
        sheet.groups,
        sheet.buses,
        sheet.drum_bus,
        sheet.over,
        sheet.sections,
        sheet.tempo,
    ]


MODULE = Module(NAME, STATION, 1, _subjects, _reads, find)
