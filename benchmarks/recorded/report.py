"""The second half of `make accuracy`: hits found in recordings of recorded hits."""

from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import cache, partial

import numpy as np

from arkund.core.hits.detect import detect
from arkund.core.hits.unlisted import unlisted_hits
from arkund.core.kit.roles import parse_mic_name
from benchmarks.gating import gates_of
from benchmarks.recorded import scoring
from benchmarks.recorded.kits import BRUSHED, DEVELOPMENT, REPORT, Kit
from benchmarks.recorded.patterns import PATTERNS
from benchmarks.recorded.recording import at_rate, make_recording
from benchmarks.recorded.single_hits import Sounds, render

PROCESSES = 2

LESS_ALIKE = ("hat_off_kick", "half_time_ride", "flams", "shuffle_pedal", "linear", "two_crashes")
WANDERS_DB = 3.0
"""Patterns that are recorded again with hits that differ by so much more: the font's repeat, as no
drummer's do."""

RATES = (48_000, 44_100, 48_000, 96_000)
"""Each kit is recorded at one of these."""


def report(seeds: list[int], development: bool = False) -> None:
    """Print the table: every pattern on every kit that development did not hear (or on those that
    it did), a seed each."""
    kits, _ = _heard_kits(development)
    total, less_alike = scoring.Score(), scoring.Score()
    with ProcessPoolExecutor(PROCESSES) as pool:
        for score, patterns, wanders_db in (
            (total, tuple(PATTERNS), 0.0),
            (less_alike, LESS_ALIKE, WANDERS_DB),
        ):
            jobs = [
                (seed, n, name) for seed in seeds for n in range(len(kits)) for name in patterns
            ]
            for found in pool.map(partial(_scored, development, wanders_db), jobs):
                score.take_in(found)
    names = ", ".join(kit.name for kit in kits)
    print(f"kits of recorded hits: {names} · {len(PATTERNS)} patterns each\n")
    print("| what | measured | bar | met |\n|---|---|---|---|")
    for what, value, bar, met in scoring.rows(total):
        print(f"| {what} | {value} | {bar} | {scoring.said(met)} |")
    for what, value, bar, met in scoring.rows(less_alike):
        if any(f" {piece}: F" in what for piece in ("kick", "snare", "tom", "ghosts")):
            print(f"| less alike, {what} | {value} | {bar} | {scoring.said(met)} |")
    print("\n| confidence | hits | right |\n|---|---|---|")
    for step, count, share in scoring.calibration(total):
        print(f"| {step} | {count} | {share:.2f} |")


def _heard_kits(development: bool) -> tuple[tuple[Kit, ...], tuple[int, int, float]]:
    """The kits of one half, and its brushed snare."""
    return (DEVELOPMENT, BRUSHED[0]) if development else (REPORT, BRUSHED[1])


@cache
def _sounds(development: bool) -> dict[tuple[int, int], Sounds]:
    """The hits of all kits of one half, rendered once a process."""
    kits, brushed = _heard_kits(development)
    return render({(p, n) for kit in kits for p, n, _ in kit.pieces.values()} | {brushed[:2]})


def _scored(development: bool, wanders_db: float, job: tuple[int, int, str]) -> scoring.Score:
    """One pattern on one kit."""
    seed, kit, name = job
    kits, brushed = _heard_kits(development)
    score = scoring.Score()
    rng = np.random.default_rng([seed, list(PATTERNS).index(name)])
    sounds = {at: replace(s, wander_db=wanders_db) for at, s in _sounds(development).items()}
    _add(score, kits[kit], brushed, name, rng, sounds, RATES[kit % len(RATES)])
    return score


def _add(
    total: scoring.Score,
    kit: Kit,
    brushed: tuple[int, int, float],
    name: str,
    rng: np.random.Generator,
    sounds: dict[tuple[int, int], Sounds],
    rate: int,
) -> None:
    pattern = PATTERNS[name](rng)
    if pattern.brushed:
        kit = replace(kit, pieces={**kit.pieces, "snare": brushed})
    recording = at_rate(make_recording(kit, pattern, sounds, rng), rate)
    hits, maybes = detect(recording.mics, recording.rate)
    scoring.score(name, recording, hits, total)
    if any(parse_mic_name(m).is_close for m in recording.mics):
        unlisted = unlisted_hits(recording.mics, recording.rate, hits, maybes)
        total.gates += gates_of(
            recording.mics,
            recording.own,
            recording.rate,
            hits,
            unlisted,
            recording.hits,
            recording.spans,
        )
