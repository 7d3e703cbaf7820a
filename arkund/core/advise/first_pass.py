"""The first pass: every finding of a school applied in order, each on top of the last."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np

from arkund.core.advise import bus, moves
from arkund.core.advise.finding import Finding
from arkund.core.advise.findings import modules_for
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell
from arkund.core.measure.levels import attack_to_body_db
from arkund.core.measure.loudness import loudness_lufs, true_peak_dbtp
from arkund.core.units import amplitude_to_db, power_to_db

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
    modules = modules_for(school)
    for number, module in enumerate(modules):
        if module is bus.MIX_MODULE:
            for look in (moves.find, moves.ceiling):
                yield from (Step(f, number / len(modules)) for f in look(study(), school)
                            if not is_declined(f))  # fmt: skip
        found = _look(module, study(), school)
        touched: set[str] = set()
        for finding in found:
            clear = not touched & set(finding.proposal)
            if finding.proposal and clear and not finding.is_doubtful and not is_declined(finding):
                touched |= set(finding.proposal)
                yield Step(finding, number / len(modules))
            else:
                yield finding


def _look(module: Module, study: Study, school: School) -> list[Finding]:
    subjects = list(module.subjects(study.sheet))
    halves = [subjects[i::2] for i in range(2)]

    def look(own: list[str]) -> dict[str, list[Finding]]:
        apart = study.beside()
        return {s: list(module.find(apart, s, school)) for s in own}

    with ThreadPoolExecutor(2) as pool:
        found = {s: f for half in pool.map(look, halves) for s, f in half.items()}
    return [f for s in subjects for f in found[s]]


def left_alone(study: Study, touched: set[str]) -> list[str]:
    """Mics on which nothing was needed."""
    return [m for m in study.mics if m not in touched]


def mics_of(finding: Finding) -> set[str]:
    """The mics that a finding's proposal changes."""
    return {p.split(".")[1] for p in finding.proposal if p.startswith("mics.")}


def measure_mix(study: Study) -> dict[str, float]:
    """The mix in figures: peak, true peak, loudness, crest, and each shell's attack over its body
    in dB; over the whole song."""
    engine, node = study.engine, study.graph.output
    size = engine.tile_frames
    count = -(-study.sheet.frames // size)
    wanted = [s.shaped for s in study.graph.mics.values()]
    with ThreadPoolExecutor(2) as pool:
        list(
            pool.map(
                lambda pair: engine.tile(*pair), [(n, t) for t in range(count) for n in wanted]
            )
        )
        tiles = list(pool.map(lambda t: engine.tile(node, t), range(count)))
    mix = np.concatenate(tiles)[: study.sheet.frames]
    peak = float(np.abs(mix).max(initial=0.0))
    power = float(np.mean(np.square(mix, dtype=np.float64)))
    figures = {
        "peak_dbfs": round(amplitude_to_db(peak), 2),
        "true_peak_dbtp": round(true_peak_dbtp(mix), 2),
        "loudness_lufs": round(loudness_lufs(mix, study.rate), 2),
        "crest_db": round(amplitude_to_db(peak) - power_to_db(power), 2),
        "over_full_scale": int(np.sum(np.abs(mix) > 1.0)),
    }
    for piece in dict.fromkeys(h.piece for h in study.hits if is_shell(h.piece)):
        times = [h.time_s for h in study.strokes(piece, ghosts=False)]
        figures[f"attack_to_body_{piece}_db"] = round(attack_to_body_db(mix, study.rate, times), 2)
    return figures
