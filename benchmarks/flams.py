"""``python -m benchmarks.flams``: kick and snare meant as one, played 9 to 26 ms apart, and what is proposed.

Judged on the sound after the proposal, at the moments that were played: a flam is heard as two where the
kit has more attacks than clean hits of both in the same song usually have; beside it how many of these do.
"""

import argparse
import tempfile
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import numpy as np

from arkund.core.advise.edit import flams
from arkund.core.advise.edit.timing import edits
from arkund.core.advise.finding import Finding
from arkund.core.advise.school import SCHOOLS
from arkund.core.advise.study import Study
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.attacks import attacks
from arkund.core.simulate.studying import study_of
from benchmarks.punch import as_session
from benchmarks.recorded.recording import Recording
from benchmarks.worlds.drawn import DEVELOPED_ON, LEFT_OUT, recorded, worlds
from benchmarks.worlds.world import World

PROCESSES = 2
CLEAN_S, NEAR_S, AROUND_S = 0.004, 0.03, 0.12
SCHOOL = SCHOOLS["tight"]


class Count(NamedTuple):
    """Flams that were played, listed, listed with a remedy, heard as two before and after it; clean hits of
    both, and how many of them are heard as two."""

    played: int
    listed: int
    remedied: int
    two_before: int
    two_after: int
    clean: int
    clean_two: int


def judged(world: World) -> Count:
    """Flams of one world and what becomes of them."""
    recording = recorded(world)
    with tempfile.TemporaryDirectory() as scratch:
        study = study_of([as_session(recording, world.name)], Path(scratch))
        found = {f.subject: f for f in flams.find(study, "kit", SCHOOL) if f.quantity == "apart"}
        apart, clean = _pairs(recording)
        usual = float(np.median([heard_attacks(study, at_s) for at_s in clean]))
        ours = [(at_s, found.get(f"bar {study.bar_of(at_s)}")) for at_s in apart]
        listed = [(at_s, finding) for at_s, finding in ours if finding]
        remedied = [(at_s, _after(study, f)) for at_s, f in listed if f.proposal]

        def heard_as_two(moments: Sequence[tuple[float, Study]]) -> int:
            return sum(heard_attacks(one, at_s) > usual for at_s, one in moments)

        return Count(
            len(apart),
            len(listed),
            len(remedied),
            heard_as_two([(at_s, study) for at_s, _ in remedied]),
            heard_as_two(remedied),
            len(clean),
            heard_as_two([(at_s, study) for at_s in clean]),
        )


def _pairs(recording: Recording) -> tuple[list[float], list[float]]:
    """When kick and snare were played apart, and when as one: times in s of the snare."""
    kicks = np.array([h["time_s"] for h in recording.hits if h["piece"] == "kick"])
    apart, clean = [], []
    for hit in recording.hits:
        if hit["piece"] != "snare" or hit["kind"] != "accent":
            continue
        gap = float(np.abs(kicks - hit["time_s"]).min())
        if gap <= CLEAN_S:
            clean.append(hit["time_s"])
        elif flams.APART_S <= gap <= NEAR_S:
            apart.append(hit["time_s"])
    return apart, clean


def _after(study: Study, finding: Finding) -> Study:
    """The song with a proposal on it, its edit list drawn up."""
    tried = study.tried(finding.proposal)
    made = edits(tried)
    if made is None:
        return tried
    sheet = tried.sheet.model_copy(update={"moves": "0" * 64})
    return replace(
        study, sheet=sheet, library=replace(study.library, edits_of=lambda _: made)
    ).beside()


def heard_attacks(study: Study, at_s: float) -> int:
    """Attacks that the kit without its rooms, each mic as recorded, is heard with around a time."""
    around, middle = round(AROUND_S * study.rate), round(at_s * study.rate)
    heard = [m for m in study.mics if parse_mic_name(m).role != "room"]
    graph, engine = study.graph, study.engine
    mix = np.sum(
        [engine.read(graph.mics[m].placed, middle - around, middle + around) for m in heard], axis=0
    )
    return len(attacks(mix, study.rate, around))


def main() -> None:
    """Judge flams on worlds and print what is proposed and what it does."""
    parser = argparse.ArgumentParser(prog="benchmarks.flams", description=__doc__)
    parser.add_argument("--count", type=int, default=16)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--developed", action="store_true", help="worlds that development hears")
    args = parser.parse_args()
    which = DEVELOPED_ON if args.developed else LEFT_OUT
    drawn = [replace(w, family="parted") for w in worlds(which, args.seed, args.count)]
    with ProcessPoolExecutor(PROCESSES) as pool:
        counts = list(pool.map(judged, drawn))
    for world, own in zip(drawn, counts, strict=True):
        print(world.name, own)
    played, listed, remedied, before, after, clean, two = map(sum, zip(*counts, strict=True))
    print(
        f"{played} flams played, {listed} listed, {remedied} with a remedy. Heard as two: {before} "
        f"before it, {after} after it; of {clean} clean hits {two}."
    )


if __name__ == "__main__":
    main()
