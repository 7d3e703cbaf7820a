"""The second half of `make accuracy`: strokes found in recordings of recorded strokes."""

from dataclasses import replace

import numpy as np

from arkund.core.hits.detect import detect_hits
from arkund.core.hits.unlisted import unlisted_strokes
from arkund.core.kit.roles import parse_mic_name
from benchmarks.gating import cut_accents
from benchmarks.recorded import scoring
from benchmarks.recorded.kits import BRUSHED, DEVELOPMENT, REPORT, Kit
from benchmarks.recorded.patterns import PATTERNS
from benchmarks.recorded.recording import make_recording
from benchmarks.recorded.strokes import Sounds, render


def report(seeds: list[int], development: bool = False) -> None:
    """Print the table: every pattern on every kit that development did not hear (or on those that
    it did), a seed each."""
    kits, brushed = (DEVELOPMENT, BRUSHED[0]) if development else (REPORT, BRUSHED[1])
    notes = {(p, n) for kit in kits for p, n, _ in kit.pieces.values()} | {brushed[:2]}
    sounds = render(notes)
    total = scoring.Score()
    for seed in seeds:
        for kit in kits:
            for number, name in enumerate(PATTERNS):
                _add(total, kit, brushed, name, np.random.default_rng([seed, number]), sounds)
    names = ", ".join(kit.name for kit in kits)
    print(f"kits of recorded strokes: {names} · {len(PATTERNS)} patterns each\n")
    print("| what | measured | bar | met |\n|---|---|---|---|")
    for what, value, bar, met in scoring.rows(total):
        print(f"| {what} | {value} | {bar} | {scoring.said(met)} |")
    print("\n| confidence | strokes | right |\n|---|---|---|")
    for step, count, share in scoring.calibration(total):
        print(f"| {step} | {count} | {share:.2f} |")


def _add(
    total: scoring.Score,
    kit: Kit,
    brushed: tuple[int, int, float],
    name: str,
    rng: np.random.Generator,
    sounds: dict[tuple[int, int], Sounds],
) -> None:
    pattern = PATTERNS[name](rng)
    if pattern.brushed:
        kit = replace(kit, pieces={**kit.pieces, "snare": brushed})
    recording = make_recording(kit, pattern, sounds, rng)
    hits = detect_hits(recording.mics, recording.rate)
    scoring.score(name, recording, hits, total)
    if any(parse_mic_name(m).is_close for m in recording.mics):
        unlisted = unlisted_strokes(recording.mics, recording.rate, hits)
        total.cut += cut_accents(
            recording.mics, recording.own, recording.rate, hits, unlisted, recording.hits
        )
