"""The second half of `make accuracy`: strokes found in recordings of recorded strokes."""

from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import cache, partial

import numpy as np

from arkund.core.hits.detect import detect
from arkund.core.hits.unlisted import unlisted_strokes
from arkund.core.kit.roles import parse_mic_name
from benchmarks.gating import gates_of
from benchmarks.recorded import scoring
from benchmarks.recorded.kits import BRUSHED, DEVELOPMENT, REPORT, Kit
from benchmarks.recorded.patterns import PATTERNS
from benchmarks.recorded.recording import at_rate, make_recording
from benchmarks.recorded.strokes import Sounds, render

PROCESSES = 2

RATES = (48_000, 44_100, 48_000, 96_000)
"""Each kit is recorded at one of these."""


def report(seeds: list[int], development: bool = False) -> None:
    """Print the table: every pattern on every kit that development did not hear (or on those that
    it did), a seed each."""
    kits, _ = _heard_kits(development)
    jobs = [(seed, n, name) for seed in seeds for n in range(len(kits)) for name in PATTERNS]
    total = scoring.Score()
    with ProcessPoolExecutor(PROCESSES) as pool:
        for score in pool.map(partial(_scored, development), jobs):
            total.take_in(score)
    names = ", ".join(kit.name for kit in kits)
    print(f"kits of recorded strokes: {names} · {len(PATTERNS)} patterns each\n")
    print("| what | measured | bar | met |\n|---|---|---|---|")
    for what, value, bar, met in scoring.rows(total):
        print(f"| {what} | {value} | {bar} | {scoring.said(met)} |")
    print("\n| confidence | strokes | right |\n|---|---|---|")
    for step, count, share in scoring.calibration(total):
        print(f"| {step} | {count} | {share:.2f} |")


def _heard_kits(development: bool) -> tuple[tuple[Kit, ...], tuple[int, int, float]]:
    """The kits of one half, and its brushed snare."""
    return (DEVELOPMENT, BRUSHED[0]) if development else (REPORT, BRUSHED[1])


@cache
def _sounds(development: bool) -> dict[tuple[int, int], Sounds]:
    """The strokes of all kits of one half, rendered once a process."""
    kits, brushed = _heard_kits(development)
    return render({(p, n) for kit in kits for p, n, _ in kit.pieces.values()} | {brushed[:2]})


def _scored(development: bool, job: tuple[int, int, str]) -> scoring.Score:
    """One pattern on one kit."""
    seed, kit, name = job
    kits, brushed = _heard_kits(development)
    score = scoring.Score()
    rng = np.random.default_rng([seed, list(PATTERNS).index(name)])
    _add(score, kits[kit], brushed, name, rng, _sounds(development), RATES[kit % len(RATES)])
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
        unlisted = unlisted_strokes(recording.mics, recording.rate, hits, maybes)
        total.gates += gates_of(
            recording.mics,
            recording.own,
            recording.rate,
            hits,
            unlisted,
            recording.hits,
            recording.spans,
        )
