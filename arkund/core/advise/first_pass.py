"""The first pass: every finding of a school applied in order, each on top of the last."""

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from itertools import groupby
from queue import SimpleQueue

import numpy as np

from arkund.core.advise import looking_back, moves
from arkund.core.advise.bus import density, peak
from arkund.core.advise.excerpt import Excerpt
from arkund.core.advise.finding import Finding
from arkund.core.advise.findings import modules_for
from arkund.core.advise.goal import GOALS
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.measure.loudness import loudness_lufs, true_peak_dbtp
from arkund.core.units import amplitude_to_db

Answered = Callable[[Finding], bool]


@dataclass(frozen=True)
class Step:
    """A finding to apply, and how far the pass is (0 to 1)."""

    finding: Finding
    share: float


def steps(
    study: Callable[[], Study], school: School, is_declined: Answered
) -> Iterator[Step | Finding]:
    """What to do, one after another. After each `Step` the caller applies it; ``study`` then gives
    the sheet as it stands. A `Finding` that comes bare is not to be applied: it is doubtful, has
    nothing to propose, or was declined.

    A module's subjects are looked at side by side, for they touch different values.
    """
    modules = [m for m in modules_for(school) if not m.for_the_ear]
    done, excerpt = 0, None
    for station, group in groupby(modules, lambda module: module.station):
        own = list(group)
        shares = [(done + n) / len(modules) for n in range(len(own))]
        done += len(own)
        if station in looking_back.STATIONS:
            before = study()
            excerpt = excerpt or Excerpt(before, GOALS[school.goal])
            yield from _looked_back(before, excerpt, own, shares, school, is_declined)
            continue
        for module, share in zip(own, shares, strict=True):
            if module is peak.MODULE:
                held = density.held_db(study(), school)
                found = moves.find(study(), school, excerpt)
                yield from (Step(f, share) for f in found if not is_declined(f))
                found = moves.ceiling(study(), school, held)
                yield from (Step(f, share) for f in found if not is_declined(f))
            yield from _settled(module, study(), school, is_declined, share)


def _looked_back(
    before: Study,
    excerpt: Excerpt,
    modules: Sequence[Module],
    shares: Sequence[float],
    school: School,
    is_declined: Answered,
) -> Iterator[Step | Finding]:
    """A station's changes that do not cost the hits what makes them hit."""
    now, made = before, []
    for module, share in zip(modules, shares, strict=True):
        for found in _settled(module, now, school, is_declined, share):
            if isinstance(found, Step):
                made.append(found.finding)
            else:
                yield found
        now = looking_back.with_changes(before, made)
    if not made:
        return
    kept = looking_back.look_back(before, made, excerpt, modules[0].station)
    yield from (Step(finding, shares[-1]) for finding in kept.stay)
    yield from kept.left_out


def _settled(
    module: Module, study: Study, school: School, is_declined: Answered, share: float
) -> Iterator[Step | Finding]:
    """What a module finds, to be applied or not. What several findings propose alike, as all mics of a
    drum do its shift, is done once."""
    found = _look(module, study, school)
    to_do = [f for f in found if f.proposal and not f.is_left_to_the_ear and not is_declined(f)]
    made: dict[str, object] = {}
    for finding in found:
        is_clear = not made.keys() & finding.proposal.keys()
        if finding in to_do and is_clear:
            made |= finding.proposal
            yield Step(finding, share)
        elif not any(f is not finding and f.proposal == finding.proposal for f in to_do):
            yield finding


def _look(module: Module, study: Study, school: School) -> list[Finding]:
    """What a module finds on all its subjects, two at a time, in their order."""
    free: SimpleQueue[Study] = SimpleQueue()
    for _ in range(2):
        free.put(study.beside())

    def look(subject: str) -> list[Finding]:
        apart = free.get()
        try:
            return list(module.find(apart, subject, school))
        finally:
            free.put(apart)

    with ThreadPoolExecutor(2) as pool:
        return [f for own in pool.map(look, module.subjects(study.sheet)) for f in own]


def left_alone(study: Study, touched: set[str]) -> list[str]:
    """Mics on which nothing was needed."""
    return [m for m in study.mics if m not in touched]


def mics_of(finding: Finding) -> set[str]:
    """The mics that a finding's proposal changes."""
    return {p.split(".")[1] for p in finding.proposal if p.startswith("mics.")}


def measure_mix(study: Study) -> dict[str, float]:
    """The mix's levels over the whole song: peak, true peak, loudness, samples over full scale. What its
    hits are like says the punch card."""
    mix = study.mix()
    return {
        "peak_dbfs": round(amplitude_to_db(float(np.abs(mix).max(initial=0.0))), 2),
        "true_peak_dbtp": round(true_peak_dbtp(mix), 2),
        "loudness_lufs": round(loudness_lufs(mix, study.rate), 2),
        "over_full_scale": int(np.sum(np.abs(mix) > 1.0)),
    }
