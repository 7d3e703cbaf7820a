"""All judgement on a song: the modules in the order in which their answers rest on each other."""

from collections.abc import Iterator

from arkund.core.advise import goal
from arkund.core.advise.align import centre, polarity, shifts
from arkund.core.advise.bus import density, parallel, peak, space
from arkund.core.advise.clean import gate
from arkund.core.advise.dynamics import stages
from arkund.core.advise.edit import comp, flams, in_time, seams, takes, unexplained
from arkund.core.advise.eq import tone
from arkund.core.advise.finding import Finding
from arkund.core.advise.level import balance, carries, trims
from arkund.core.advise.load_in import click, never_hit, pairs_in, repairs, root
from arkund.core.advise.module import Module
from arkund.core.advise.replace import left_behind, under, uneven
from arkund.core.advise.school import School
from arkund.core.advise.sections import fits, louder, more
from arkund.core.advise.study import Study
from arkund.core.sheet.sheet import Sheet

MODULES: tuple[Module, ...] = (
    repairs.MODULE,
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
    shifts.MODULE,
    centre.CENTRE_MODULE,
    trims.WILD_MODULE,
    trims.MODULE,
    gate.MODULE,
    uneven.MODULE,
    left_behind.LEFT_MODULE,
    tone.MODULE,
    stages.MODULE,
    balance.MODULE,
    under.MODULE,
    density.MODULE,
    parallel.MODULE,
    *density.BUS_MODULES,
    peak.MODULE,
    goal.MODULE,
    carries.MODULE,
    more.MODULE,
    fits.MODULE,
    louder.MODULE,
    space.MODULE,
)
"""In signal order: what a later one hears, an earlier one has settled."""

STATION_OF = {m.name: m.station for m in MODULES}


def modules_for(school: School) -> tuple[Module, ...]:
    """The modules in the school's order of work: a school that goes bus first balances and glues
    before it shapes single mics."""
    if school.order == "mics_first":
        return MODULES
    early = (balance.MODULE, parallel.MODULE)
    late = (tone.MODULE, stages.MODULE)
    last = (density.MODULE, *density.BUS_MODULES, peak.MODULE, goal.MODULE)
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
