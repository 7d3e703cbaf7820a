"""``python -m benchmarks.compressions``: what a proposed compressor does to a drum's mic, on worlds left out.

Proposed by the hits that were found, judged by those that were played: the reduction of the typical hit against
what the school aims at, and what is left of it when the drum is hit again, against what the finding says. Beside it
the plain method: the same ratio and times with the threshold 10 dB under the mic's loudest sample.
"""

import argparse
import tempfile
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from arkund.core.advise.dynamics.stages import AIM_DB, TRACE_STEP, find, typical_reduction_db
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.process.compressor import Compressor
from arkund.core.simulate.studying import study_of
from arkund.core.units import amplitude_to_db
from benchmarks.landmarks import played_times
from benchmarks.punch import as_session
from benchmarks.worlds.drawn import LEFT_OUT, recorded, worlds
from benchmarks.worlds.world import World

GOALS = ("punch", "punch_size")
LEAST_HITS = 8
WITHIN_DB, LEFT_DB, MOST_GAPS = 1.0, 0.5, 0.9
PLAIN_UNDER_DB = 10.0
OTHERWISE = "in only"
"""As the finding puts a release that is not over in time."""


@dataclass(frozen=True)
class Compressed:
    """One proposal: the reduction of the typical hit (dB) that was aimed at, that of the proposal and that of the plain
    method; the share of the gaps after which `LEFT_DB` or less is left, and whether the finding says so."""

    where: str
    aim_db: float
    reduction_db: float
    plain_db: float
    share: float
    says_so: bool

    @property
    def is_told(self) -> bool:
        """Whether what the finding says of its release holds: who says nothing is never wrong."""
        return not self.says_so or self.share >= MOST_GAPS


def compressed(world: World) -> list[Compressed]:
    """The compressors that are proposed in a world, of drums that are hit often enough."""
    recording, out = recorded(world), []
    with tempfile.TemporaryDirectory() as scratch:
        study = study_of([as_session(recording, world.name)], Path(scratch))
        for mic in study.sheet.mics:
            if mic not in recording.own:
                continue
            times = played_times(recording, mic)
            if len(times) >= LEAST_HITS:
                out += [one for goal in GOALS for one in _judged(study, mic, goal, times, world)]
    return out


def _judged(
    study: Study, mic: str, goal: str, times: Sequence[float], world: World
) -> list[Compressed]:
    school = next(s for s in SCHOOLS.values() if s.goal == goal)
    for found in find(study, mic, school):
        if found.quantity != "compressor":
            continue
        tried = study.tried(found.proposal)
        stage = tried.sheet.mics[mic].first(Compressor)
        assert stage is not None
        sound = tried.sound(mic, "transient")
        loudest = amplitude_to_db(float(np.abs(sound).max()))
        plain = stage.model_copy(update={"threshold_db": round(loudest - PLAIN_UNDER_DB, 1)})
        process = stage.process(study.rate)
        _, trace = process.run_traced(sound, process.at_rest())
        return [
            Compressed(
                f"{mic}, {school.name}, {world.name}",
                AIM_DB[goal],
                typical_reduction_db(sound, study.rate, stage, times),
                typical_reduction_db(sound, study.rate, plain, times),
                _back_again(trace, study.rate, times),
                OTHERWISE not in found.reason,
            )
        ]
    return []


def _back_again(trace: np.ndarray, rate: int, times: Sequence[float]) -> float:
    """In how many gaps the reduction is back within `LEFT_DB` just before the next hit."""
    before = [int((t - 0.003) * rate / TRACE_STEP) for t in list(times)[1:]]
    left = [trace[i] for i in before if 0 <= i < len(trace)]
    return float(np.mean([db <= LEFT_DB for db in left])) if left else 1.0


def table(rows: Sequence[Compressed]) -> str:
    """By school's aim: how near the reduction comes, and whether what is said of the release holds."""
    out = [
        "| aim | proposals | within 1 dB | off, median | worst | plain method within 1 dB | "
        "said to end before the next hit | of these true |",
        "|---|---|---|---|---|---|---|---|",
    ]
    for goal in GOALS:
        own = [r for r in rows if r.aim_db == AIM_DB[goal]]
        if not own:
            continue
        off = [abs(r.reduction_db - r.aim_db) for r in own]
        worst = own[int(np.argmax(off))]
        said = [r for r in own if r.says_so]
        out.append(
            f"| {AIM_DB[goal]:g} dB | {len(own)} | {sum(o <= WITHIN_DB for o in off)} | {np.median(off):.2f} dB | "
            f"{worst.reduction_db:.1f} dB, {worst.where} | "
            f"{sum(abs(r.plain_db - r.aim_db) <= WITHIN_DB for r in own)} | {len(said)} | "
            f"{sum(r.is_told for r in said)} |"
        )
    return "\n".join(out)


def main() -> None:
    """Measure worlds and print the table."""
    parser = argparse.ArgumentParser(prog="benchmarks.compressions", description=__doc__)
    parser.add_argument("--count", type=int, default=24)
    parser.add_argument("--seed", type=int, default=1)
    args = parser.parse_args()
    rows: list[Compressed] = []
    with ProcessPoolExecutor(2) as pool:
        for found in pool.map(compressed, worlds(LEFT_OUT, args.seed, args.count)):
            rows += found
    print(table(rows))
    for row in rows:
        if abs(row.reduction_db - row.aim_db) > WITHIN_DB or not row.is_told:
            print(
                f"- {row.where}: {row.reduction_db:.1f} dB, {row.share:.0%} of gaps, says so: {row.says_so}"
            )


if __name__ == "__main__":
    main()
