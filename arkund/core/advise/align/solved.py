"""Where the mics of the kit should lie: one solution for all."""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np

from arkund.core.advise.study import Study
from arkund.core.align.bodies import offsets
from arkund.core.align.pairs import Pair
from arkund.core.align.signs import solve_signs
from arkund.core.align.solving import Residual, Solution, residuals_of, solve_shifts
from arkund.core.align.sparing import MOST_LOST_DB, Added, spared
from arkund.core.align.sums import Together
from arkund.core.kit.roles import parse_mic_name, piece_family
from arkund.core.measure.landmarks import roomy

Wanted = tuple[float, str, float, float]
"""Delay in samples, the mic it is held against, confidence, spread over the hits."""

TOGETHER = ("kick", "snare")
"""Pieces whose own mics are brought together where nothing else is moved."""


def solution(study: Study, alignment: str) -> Solution:
    """One shift for each close mic, as a school aligns: all onto the overheads where these are, or
    the mics of kick and of snare onto the latest of them."""
    found: Solution = study.remember(("shifts", alignment), lambda: _solved(study, alignment))
    return found


def _solved(study: Study, alignment: str) -> Solution:
    """From the sound as recorded: whatever was flipped, moved or muted since, the same comes out."""
    pairs, mics = study.facts.pairs, study.sheet.mics
    pieces = {p: study.close(p) for p in study.pieces}
    inside = _inside(study, offsets(pairs, pieces, study.rate))
    if alignment == "overheads":
        held = {m: mics[m].delay_samples for m in study.with_role("overhead")}
        free = [m for close in pieces.values() for m in close]
        return _spared(study, solve_shifts(pairs, free, held, inside), held)
    shifts: dict[str, float] = {}
    residuals: list[Residual] = []
    for piece, close in pieces.items() if alignment == "pairs" else ():
        if piece_family(piece) not in TOGETHER or not any(inside[m] for m in close):
            continue
        # Nobody is moved ahead: the latest stays, the others wait for it.
        latest = min(inside[m] for m in close)
        shifts |= {m: round(inside[m] - latest, 2) for m in close}
        own = [p for p in pairs if p.piece == piece]
        residuals += residuals_of(own, {m: shifts[m] for m in close})
    return Solution(shifts, residuals)


def _inside(study: Study, found: Mapping[str, float]) -> dict[str, float]:
    """How a drum's mics are shifted against each other, without shifts that make their sum thinner."""
    out = dict(found)
    for added in _added(study, [p for p in study.facts.pairs if p.sure]):
        one_drum = parse_mic_name(added.mic).piece == parse_mic_name(added.reference).piece
        by = out.get(added.mic, 0.0) - out.get(added.reference, 0.0)
        if one_drum and by and added.lost_db(by) > MOST_LOST_DB:
            out[added.mic] = out.get(added.reference, 0.0)
    return out


def _added(study: Study, pairs: Sequence[Pair | Residual]) -> list[Added]:
    """Pairs as sums of the sound as recorded, each the way up that the pairs themselves say."""
    signs = solve_signs(study.mics, study.facts.pairs).sign
    out = []
    for p in pairs:
        times = roomy([h.time_s for h in study.hits_on(p.piece, ghosts=False)], 0.12)
        if not p.sure or not times:
            continue
        mic, reference = (study.sound(m, "repaired") for m in (p.mic, p.reference))
        with suppress(ValueError):  # silent at these hits
            both = Together(mic, reference, study.rate, times)
            sign = signs[p.mic] * signs[p.reference]
            out.append(Added(p.piece, p.mic, p.reference, p.delay_samples, both, sign))
    return out


def _spared(study: Study, found: Solution, held: Mapping[str, float]) -> Solution:
    """A solution that makes no sure pair's sum much thinner; what it leaves of each delay."""
    bodies = {m: parse_mic_name(m).piece or m for m in found.shifts}
    shifts = spared(found.shifts, held, _added(study, found.residuals), bodies)
    moved = {m: at - found.shifts[m] for m, at in shifts.items()}
    residuals = [
        replace(
            r,
            left_samples=round(
                r.left_samples + moved.get(r.mic, 0.0) - moved.get(r.reference, 0.0), 2
            ),
        )
        for r in found.residuals
    ]
    return Solution(shifts, residuals)


def all_shifted(study: Study, alignment: str) -> Study:
    """The study with all close mics shifted together, in which each is judged."""

    def shifted() -> Study:
        shifts = solution(study, alignment).shifts
        return study.tried({f"mics.{m}.delay_samples": round(s, 1) for m, s in shifts.items()})

    found: Study = study.remember(("all shifted", alignment), shifted)
    return found


def wanted_shift(study: Study, mic: str, alignment: str) -> Wanted | None:
    """Where the solution has a mic, and the mic that it is brought to: the overhead with which it
    is surest, or of a piece's own mics the latest."""
    found = solution(study, alignment)
    if mic not in found.shifts:
        return None
    own = [p for p in study.facts.pairs if mic in (p.mic, p.reference)]
    piece = parse_mic_name(mic).piece or ""
    if alignment == "pairs":
        close = [m for m in study.close(piece) if m in found.shifts]
        own = [p for p in own if {p.mic, p.reference} <= set(close)]
        ahead = [m for m in close if m != mic]
        other = min(ahead, key=lambda m: found.shifts[m])
    else:
        far = [p for p in own if parse_mic_name(p.reference).role == "overhead"] or own
        best = max(far, key=lambda p: (p.sure, p.confidence))
        other = best.reference if best.mic == mic else best.mic
    if not own:
        return None
    deciding = max(own, key=lambda p: (p.sure, p.confidence))
    confidence = deciding.confidence if deciding.sure else 0.5
    return found.shifts[mic], other, confidence, deciding.spread_samples


def behind_overheads(study: Study, mic: str) -> tuple[float, float] | None:
    """How many samples after the overheads a room's mic hears the kit as recorded, and the confidence
    of that; None where no sure pair says so.

    Room against close mic, and close mic against overhead, add up to room against overhead.
    """
    mine = [p for p in study.facts.pairs if p.mic == mic and p.sure]
    if not mine:
        return None
    pair = max(mine, key=lambda p: p.confidence)
    over = [
        p
        for p in study.facts.pairs
        if p.mic == pair.reference
        and p.sure
        and p.piece == pair.piece
        and p.reference.startswith("overhead")
    ]
    if not over:
        return None
    behind = pair.delay_samples + float(np.mean([o.delay_samples for o in over]))
    return behind, pair.confidence


def pair_behind(study: Study, mic: str) -> tuple[float, float] | None:
    """`behind_overheads` of a pair of rooms as a whole, for both move together: as much as the one that
    is behind least, lest the other come before the overheads."""
    name = parse_mic_name(mic)
    pair = [
        m for m in study.mics if replace(parse_mic_name(m), side=None) == replace(name, side=None)
    ]
    known = [one for m in pair if (one := behind_overheads(study, m)) is not None]
    return (min(b for b, _ in known), min(c for _, c in known)) if known else None
