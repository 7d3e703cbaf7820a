"""The table of Align: what one solution for the whole kit does to the sums that pairs make.

Songs are simulated and made of recorded hits, all with fresh seeds, the latter on kits that
development never heard.
"""

import tempfile
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from arkund.core.advise.align.solved import solution
from arkund.core.advise.study import Study
from arkund.core.align.signs import solve_signs
from arkund.core.align.solving import Centre, centre_of
from arkund.core.align.sparing import LOWEST_BAND
from arkund.core.align.sums import sums_of
from arkund.core.kit.roles import parse_mic_name, piece_family
from arkund.core.measure.landmarks import roomy
from arkund.core.simulate.session import Session
from arkund.core.simulate.studying import study_of
from benchmarks.punch import songs


def main(seeds: Sequence[int]) -> None:
    """Print the table for songs of these seeds."""
    print(
        "| song | sure pairs | their sum, least gain (dB) | median gain (dB) | left within a piece (samples) "
        "| snare centre off by (samples) |\n|---|---|---|---|---|---|"
    )
    for name, session in songs(list(seeds)):
        with tempfile.TemporaryDirectory() as scratch:
            study = study_of([session], Path(scratch))
            print(f"| {name} | {_line(study, session)} |", flush=True)
    print()


def _line(study: Study, session: Session) -> str:
    gains, within = [], [0.0]
    found = solution(study, "overheads")
    signs = solve_signs(study.mics, study.facts.pairs).sign
    for r in found.residuals:
        if not r.sure:
            continue
        if parse_mic_name(r.reference).piece == parse_mic_name(r.mic).piece:
            within.append(abs(r.left_samples))
        times = roomy([h.time_s for h in study.hits_on(r.piece, ghosts=False)], 0.12)
        shift = found.shifts.get(r.mic, 0.0) - found.shifts.get(r.reference, 0.0)
        sums = sums_of(
            study.sound(r.mic, "source"),
            study.sound(r.reference, "source"),
            study.rate,
            times,
            shift,
        )
        if sums is None:
            continue
        band = LOWEST_BAND.get(piece_family(r.piece), 2)
        flipped = signs[r.mic] * signs[r.reference] < 0
        gains.append((sums.both if flipped else sums.shifted)[band] - sums.recorded[band])
    if not gains:
        return "0 | – | – | – | –"
    return " | ".join(
        [
            str(len(gains)),
            f"{min(gains):+.2f}",
            f"{np.median(gains):+.2f}",
            f"{max(within):.2f}",
            _centre_error(study, session),
        ]
    )


def _centre_error(study: Study, session: Session) -> str:
    """How far the snare's centre in the overheads is from the truth; – where that is not known."""
    found = centre_of(study.facts.pairs, "snare", "overhead", {})
    true = {
        p["reference"]: p["delay_samples"]
        for p in session.truth.get("pairs", ())
        if p["piece"] == "snare" and p["mic"] == "snare_top"
    }
    if found is None or not {"overhead_l", "overhead_r"} <= set(true):
        return "–"
    late = true["overhead_l"] - true["overhead_r"]
    return f"{abs(_right_late(found) - late):.2f}{'' if found.sure else ' (doubtful)'}"


def _right_late(centre: Centre) -> float:
    """By how much the right side hears the snare later than the left."""
    return centre.samples if centre.late.endswith("_r") else -centre.samples
