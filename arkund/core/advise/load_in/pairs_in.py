"""Load-in: what two files say of each other: the same file twice, a pair without sides, sides
that stand the wrong way round."""

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.finding import Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.kit.plan import place_pieces
from arkund.core.kit.roles import AMBIENCE, label, parse_mic_name, piece_family
from arkund.core.measure.levels import hit_peaks
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db

NAME = "pair-in"
MONO_FROM = 0.9995
"""From this correlation at lag zero on, two sides carry one sound."""

LEAST_HITS = 2
LEAST_TILT_DB = 1.0
"""A pair whose pieces lie less apart than this in level says nothing of its sides."""


def find(study: Study, subject: str, school: School) -> list[Finding]:
    """What two files say of each other."""
    same = list(_identical(study))
    twins = {mic for f in same for mic in (f.subject, f.measured["other"])}
    out = same
    tilts: dict[tuple[str, str], tuple[float, int]] = {}
    for left, right in _sides(study.sheet):
        if left in twins or right in twins:
            continue
        a, b = study.sound(left, "source"), study.sound(right, "source")
        if (correlation := _correlation(a, b)) >= MONO_FROM:
            out.append(_mono(left, right, correlation))
        elif parse_mic_name(left).role in AMBIENCE:
            tilts[left, right] = _tilt(study, a, b)
    return [*out, *_swapped(tilts)]


def _sides(sheet: Sheet) -> Iterator[tuple[str, str]]:
    heard = sounding_mics(sheet)
    for mic in heard:
        if mic.endswith("_l") and f"{mic[:-1]}r" in heard:
            yield mic, f"{mic[:-1]}r"


def _identical(study: Study) -> Iterator[Finding]:
    """Mics of the take that sounds whose files hold the same samples."""
    first: dict[tuple[str, str], str] = {}
    for mic in study.mics:
        source = study.sheet.take.sources.get(mic)
        if source is None or study.sheet.mics[mic].mute:
            continue
        twin = first.setdefault((source.sha256, source.pick), mic)
        if twin != mic:
            yield Finding(
                NAME,
                "identical",
                mic,
                spoken(
                    f"{label(mic)} and {label(twin)} are the same recording, which only makes it "
                    "6 dB louder. Mute one, or put the right file in its place."
                ),
                {"other": twin},
                0.99,
                {f"mics.{mic}.mute": True},
                mic=mic,
            )


def _mono(left: str, right: str, correlation: float) -> Finding:
    what = label(left.removesuffix("_l"))
    return Finding(
        NAME,
        "mono",
        left,
        spoken(
            f"The {what} pair is mono: its two sides correlate at {correlation:.4f}. One side "
            "panned to the centre sounds the same."
        ),
        {"correlation": round(correlation, 5), "other": right},
        0.95,
        {f"mics.{right}.mute": True, f"mics.{left}.pan": 0.0},
        mic=left,
    )


def _correlation(a: NDArray[np.float32], b: NDArray[np.float32]) -> float:
    power = float(np.sqrt(np.dot(a, a) * np.dot(b, b)))
    return float(np.dot(a, b)) / power if power > 0 else 0.0


def _tilt(study: Study, left: NDArray[np.float32], right: NDArray[np.float32]) -> tuple[float, int]:
    """``(dB a metre, pieces)``: how much louder the right side hears pieces that stand further to
    the drummer's right; negative where the sides stand the wrong way round for a drummer."""
    placed = place_pieces(study.pieces)
    x, difference = [], []
    loud = np.array([h.time_s for h in study.hits if piece_family(h.piece) != "hat"])
    everything = np.array([h.time_s for h in study.hits])
    for piece in placed:
        # A hat under a shell's hit does not change what far mics hear of it.
        rivals = everything if piece_family(piece.piece) == "hat" else loud
        alone = [
            h.time_s
            for h in study.hits_on(piece.piece, ghosts=False)
            if np.sum(np.abs(rivals - h.time_s) < 0.05) == 1
        ]
        if len(alone) < LEAST_HITS:
            continue
        levels = [amplitudes_to_db(hit_peaks(side, study.rate, alone)) for side in (left, right)]
        x.append(piece.x)
        difference.append(float(np.median(levels[1] - levels[0])))
    if len(x) < 3 or np.ptp(difference) < LEAST_TILT_DB:
        return 0.0, 0
    return float(np.polyfit(x, difference, 1)[0]), len(x)


def _swapped(tilts: dict[tuple[str, str], tuple[float, int]]) -> Iterator[Finding]:
    """Pairs that lean against another one are swapped; all leaning one way may be a choice of
    seat, and one that leans alone is asked about."""
    sure = {pair: tilt for pair, (tilt, pieces) in tilts.items() if pieces >= 3}
    towards = [t for t in sure.values() if t > 0]
    for (left, right), tilt in sure.items():
        if tilt >= 0:
            continue
        against = bool(towards)
        if not against and len(sure) > 1:
            continue
        what = label(left.removesuffix("_l"))
        why = (
            "The other pair has the kit the right way round."
            if against
            else "Unless the kit is meant from the listener's seat or the drummer plays left-handed."
        )
        yield Finding(
            NAME,
            "swapped",
            left,
            spoken(
                f"Left and right of the {what} pair seem swapped: drums at the drummer's right are "
                f"louder on the left, by {-tilt:.1f} dB a metre. {why}"
            ),
            {"tilt_db_per_m": round(tilt, 2), "other": right},
            0.85 if against else 0.5,
            {f"mics.{left}.pan": 1.0, f"mics.{right}.pan": -1.0},
            mic=left,
        )


def _reads(sheet: Sheet, subject: str) -> list[object]:
    return [[(m.mute, m.pan) for m in sheet.mics.values()]]


def _find_unless_panned(study: Study, subject: str, school: School) -> list[Finding]:
    """Findings whose proposal would change something."""
    return [
        f
        for f in find(study, subject, school)
        if any(_value(study.sheet, path) != value for path, value in f.proposal.items())
    ]


def _value(sheet: Sheet, path: str) -> object:
    _, mic, field = path.split(".")
    return getattr(sheet.mics[mic], field)


MODULE = Module(NAME, "load-in", 2, lambda sheet: ["files"], _reads, _find_unless_panned)
