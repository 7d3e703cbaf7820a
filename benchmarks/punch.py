"""The punch table: what a first pass gains over the recording, school by school, song by song.

Songs are simulated and made of recorded hits, all with fresh seeds, the latter on kits that
development never heard. Hits are not moved. Loudness and true peak are measured by libraries of
their own.
"""

import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import numpy as np
import pyloudnorm
import scipy
from numpy.typing import NDArray

from arkund.core.advise.first_pass import Step, steps
from arkund.core.advise.goal import (
    APART,
    GHOSTS,
    GOALS,
    LOUDNESS,
    LOW_LEVEL,
    MONO,
    NOISE,
    PUMPING,
    Figure,
    figures,
    hits_of,
)
from arkund.core.advise.school import SCHOOLS, School
from arkund.core.advise.study import Study
from arkund.core.errors import ArkundError
from arkund.core.graph.building import build
from arkund.core.measure.punch import Card, punch_card
from arkund.core.process.limiter import Limiter
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch
from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.session import Session, simulate
from arkund.core.simulate.studying import study_of
from benchmarks.recorded.kits import BRUSHED, REPORT
from benchmarks.recorded.patterns import PATTERNS
from benchmarks.recorded.recording import Recording, make_recording
from benchmarks.recorded.single_hits import render

PLAYED = ("hat_off_kick", "half_time_ride", "two_crashes", "brushes", "two_feet", "shuffle_pedal")
BARS = 24


def main(seeds: list[int]) -> None:
    """Print the table for songs of these seeds."""
    print(
        "| song | school | loudness at equal true peak, LU | kick attack; over body; low end at equal peak, "
        "at equal loudness, dB | snare attack; over body, dB | toms, the worst: attack; over body; low end, dB | "
        "ghosts, dB | cymbals moved apart; pumping, dB | noise; lost in mono, dB | limiter, dB | "
        "accents' spread over a layer, dB | missed |\n|---|---|---|---|---|---|---|---|---|---|---|---|"
    )
    met = every = 0
    standing = []
    for name, session in songs(seeds):
        with tempfile.TemporaryDirectory() as scratch:
            study = study_of([session], Path(scratch))
            for school in SCHOOLS.values():
                rows, held, laid = _gained(study, school)
                missed = [f.name for f in rows if not f.is_met]
                goals = [f for f in rows if f.has_goal]
                met, every = met + len(goals) - len(missed), every + len(goals)
                print(_line(name, school, rows, held, laid, missed), flush=True)
                standing.append(f"| {name} | {school.name} | {_standing(rows)} |")
    print(f"\n{met} of {every} figures met ({100 * met / max(every, 1):.0f} %).\n")

    print(f"| song | school | {' | '.join(STANDING)} |\n|{'---|' * (2 + len(STANDING))}")
    print("\n".join(standing))


STANDING = (LOUDNESS, "crest", "kick attack over body", "snare attack over body")


def _standing(rows: list[Figure]) -> str:
    """Where a song stands as recorded and after the pass, by some figures."""
    by = {f.name: f"{f.recorded:.1f} → {f.now:.1f}" for f in rows}
    return " | ".join(by.get(name, "–") for name in STANDING)


def songs(seeds: list[int]) -> Iterator[tuple[str, Session]]:
    """Songs of these seeds by name: every preset, and recorded hits on the report's kits."""
    for preset in PRESETS:
        yield f"simulated, {preset}", simulate(preset, seeds[0], bars=BARS)
    try:
        notes = {(p, n) for kit in REPORT for p, n, _ in kit.pieces.values()} | {BRUSHED[1][:2]}
        sounds = render(notes)
    except ArkundError as error:
        print(error)
        return
    for number, name in enumerate(PLAYED):
        kit = REPORT[number % len(REPORT)]
        rng = np.random.default_rng([seeds[0], number])
        pattern = PATTERNS[name](rng)
        if pattern.brushed:
            kit = replace(kit, pieces={**kit.pieces, "snare": BRUSHED[1]})
        yield (
            f"recorded, {kit.name}, {name}",
            as_session(make_recording(kit, pattern, sounds, rng), name),
        )


def as_session(recording: Recording, title: str) -> Session:
    """A recording as a take that can be studied."""
    preset = next(iter(PRESETS.values()))()
    files = {mic: f"{mic}.wav" for mic in recording.mics}
    frames = len(next(iter(recording.mics.values())))
    truth = {
        "frames": frames,
        "tempo_bpm": 120.0,
        "first_downbeat_s": 0.0,
        "sections": [],
        "takes": [],
        "faults": [],
        "hits": recording.hits,
    }
    preset = replace(preset, title=title, rate=recording.rate, files=files)
    return Session(preset, recording.rate, recording.mics, {}, truth)


def passed(study: Study, school: School, laid: list[str] | None = None) -> Study:
    """The study after a first pass, hits left where they were played. ``laid`` takes by layer the accents'
    spread without and with it."""
    engine = Engine(study.rate, study.sheet.frames, TileCache(), early=True)
    states = [Study(study.sheet, engine, study.library, study.takes)]
    for step in steps(lambda: states[-1], school, lambda finding: False):
        if isinstance(step, Step) and not step.finding.id.startswith("edit."):
            sheet = states[-1].sheet
            sheet = apply_patch(sheet, completed(sheet, step.finding.proposal))
            states[:] = [Study(sheet, engine, study.library, study.takes)]
            if laid is not None and step.finding.quantity == "under":
                spread = step.finding.gain["spread_db"]
                laid.append(f"{step.finding.subject} {spread.now:.1f} → {spread.then:.1f}")
    return states[-1]


def _gained(study: Study, school: School) -> tuple[list[Figure], float, list[str]]:
    """The figures after a first pass, what the limiter takes at its worst in dB, and by layer the
    accents' spread without and with it."""
    rate, frames = study.rate, study.sheet.frames
    laid: list[str] = []
    now = passed(study, school, laid)
    exact = Engine(rate, frames, TileCache())
    recorded = exact.read(build(study.sheet, study.library, "recorded").output, 0, frames)
    mix = exact.read(now.graph.output, 0, frames)
    rows = figures(_card(study, recorded), _card(study, mix), GOALS[school.goal])
    limiter = now.sheet.drum_bus.first(Limiter)
    held = 0.0
    if limiter is not None:
        into = exact.read(now.graph.chains[DRUM_BUS].before(limiter.id), 0, frames)
        held = max(true_peak_dbtp(into) - limiter.ceiling_db, 0.0)
    return rows, held, laid


def _card(study: Study, mix: NDArray[np.float32]) -> Card:
    card = punch_card(mix, study.rate, hits_of(study))
    loudness = float(pyloudnorm.Meter(study.rate).integrated_loudness(mix.astype(np.float64)))
    return replace(card, loudness_lufs=loudness, true_peak_dbtp=true_peak_dbtp(mix))


def true_peak_dbtp(sound: NDArray[np.float32]) -> float:
    """Largest magnitude at four times the rate, by scipy's resampling."""
    most = max(float(np.abs(scipy.signal.resample_poly(sound[:, n], 4, 1)).max()) for n in range(2))
    return float(20 * np.log10(max(most, 1e-9)))


def _line(
    name: str,
    school: School,
    rows: list[Figure],
    held: float,
    laid: list[str],
    missed: list[str],
) -> str:
    gained = {f.name: f"{f.gained:+.1f}" for f in rows}

    def of(piece: str, *what: str) -> str:
        return "; ".join(gained.get(f"{piece} {w}", "–") for w in what)

    def worst_tom(ending: str) -> str:
        found = [f.gained for f in rows if f.name.startswith("tom") and f.name.endswith(ending)]
        return f"{min(found):+.1f}" if found else "–"

    toms = "; ".join(worst_tom(ending) for ending in (" attack", "over body", LOW_LEVEL))
    kick = of(
        "kick",
        "attack",
        "attack over body",
        "low end at equal true peak",
        "low end at equal loudness",
    )
    cells = [
        name,
        school.name,
        gained[LOUDNESS],
        kick,
        of("snare", "attack", "attack over body"),
        toms,
        gained.get(GHOSTS, "–"),
        "; ".join(gained.get(f, "–") for f in (APART, PUMPING)),
        "; ".join(gained.get(f, "–") for f in (NOISE, MONO)),
        f"{held:.1f}",
        ", ".join(laid) or "–",
        "; ".join(missed) or "none",
    ]
    return f"| {' | '.join(cells)} |"
