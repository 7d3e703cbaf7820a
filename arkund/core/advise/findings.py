"""All judgement on a song: the modules in the order in which their answers rest on each other."""

from collections.abc import Iterator

from arkund.core.advise import (
    align,
    balance,
    bus,
    carries,
    clean,
    click,
    comp,
    density,
    dynamics,
    eq,
    flams,
    goal,
    in_time,
    level,
    load_in,
    never_hit,
    pairs_in,
    parallel,
    polarity,
    replace,
    root,
    seams,
    takes,
    under,
    unexplained,
)
from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.sheet.sheet import Sheet

MODULES: tuple[Module, ...] = (
    load_in.MODULE,
    pairs_in.MODULE,
    click.MODULE,
    root.MODULE,
    takes.MODULE,
    flams.MODULE,
    unexplained.MODULE,
    never_hit.MODULE,
    comp.MODULE,
    in_time.MODULE,
    seams.MODULE,
    polarity.MODULE,
    align.MODULE,
    align.CENTRE_MODULE,
    level.WILD_MODULE,
    level.MODULE,
    clean.MODULE,
    replace.MODULE,
    replace.LEFT_MODULE,
    eq.MODULE,
    dynamics.MODULE,
    balance.MODULE,
    under.MODULE,
    density.MODULE,
    parallel.MODULE,
    *density.BUS_MODULES,
    bus.MODULE,
    goal.MODULE,
    carries.MODULE,
)
"""In signal order: what a later one hears, an earlier one has settled."""

STATION_OF = {m.name: m.station for m in MODULES}


def modules_for(school: School) -> tuple[Module, ...]:
    """The modules in the school's order of work: a school that goes bus first balances and glues
    before it shapes single mics."""
    if school.order == "mics_first":
        return MODULES
    early = (balance.MODULE, parallel.MODULE)
    late = (eq.MODULE, dynamics.MODULE)
    last = (density.MODULE, *density.BUS_MODULES, bus.MODULE, goal.MODULE)
    rest = [m for m in MODULES if m not in early + late + last]
    return (*rest, *early, *late, *last)


def questions(sheet: Sheet, school: School) -> Iterator[tuple[Module, str]]:
    """Every module with each of its subjects, in order."""
    for module in modules_for(school):
        for subject in module.subjects(sheet):
            yield module, subject


def find_all(study: Study, school: School) -> list[Finding]:
    """All findings on the sheet as it stands."""
    return [
        finding
        for module, subject in questions(study.sheet, school)
        for finding in module.find(study, subject, school)
    ]
