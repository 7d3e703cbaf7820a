"""Align: mics that arrive out of step, and the snare in the centre of a pair."""

from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import replace

import numpy as np

from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.polarity import NAME, Standing, reads_all, span_of, sum_level_db
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.align.bodies import offsets
from arkund.core.align.pairs import Pair
from arkund.core.align.signs import solve_signs
from arkund.core.align.solving import Residual, Solution, centre_of, residuals_of, solve_shifts
from arkund.core.align.sparing import MOST_LOST_DB, Added, spared
from arkund.core.align.sums import Together
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.landmarks import roomy
from arkund.core.sheet.lanes import kit_mics
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import samples_to_cm, samples_to_ms

IN_STEP_SAMPLES = 1.0
LEAST_OFF_CENTRE = 4.0
"""Samples by which the snare may be nearer to one side without a word."""


def find_delay(study: Study, mic: str, school: School) -> list[Finding]:
    """What closes the gap between a mic and the one that it refers to."""
    return _delay(study, mic, school)


def _delay(study: Study, mic: str, school: School) -> list[Finding]:
    name = parse_mic_name(mic)
    if name.piece is None:
        return _room(study, mic, school) if name.role == "room" else []
    wanted = _wanted(study, mic, school.alignment)
    if wanted is None:
        return []
    target, reference, confidence, spread = wanted
    now = study.sheet.mics[mic].delay_samples
    move = target - now
    if abs(move) < IN_STEP_SAMPLES:
        return []
    patch = _as_a_whole(study, name.piece, school.alignment)
    span = span_of(name.piece)
    before = sum_level_db(study, name.piece, mic, reference, *span)
    after = sum_level_db(_all_shifted(study, school.alignment), name.piece, mic, reference, *span)
    late = "late" if move < 0 else "early"
    way = abs(move)
    lost_db, loser = _most_lost(study, mic, school.alignment, span)
    fuller, thinner = after > before + 0.2, lost_db > MOST_LOST_DB
    won = (
        f"the two gain {after - before:+.1f} dB from {span[0]:.0f} to {span[1]:.0f} Hz"
        if fuller
        else "the hits line up"
    )
    if thinner:  # left to the ear
        confidence = min(confidence, 0.5)
        won += f", but {lost_db:.1f} dB are lost with {label(loser)}"
    moving = [m for m in study.close(name.piece) if _is_moved(study, m, patch)]
    others = " together with the drum's other mics," if len(moving) > 1 else ","
    gain = {"apart_samples": Change(round(way, 1), 0.0)}
    if fuller:
        gain["sum_db"] = Change(round(before, 2), round(after, 2))
    return [
        Finding(
            NAME,
            "delay",
            mic,
            spoken(
                f"{label(mic)} is {samples_to_ms(way, study.rate):.2f} ms "
                f"({samples_to_cm(way, study.rate):.0f} cm) {late} against {label(reference)}. "
                f"Moved by {move:+.0f} samples{others} {won}."
            ),
            {
                "delay_samples": round(-move, 2),
                "delay_ms": round(-samples_to_ms(move, study.rate), 3),
                "against": reference,
                "spread_samples": spread,
            },
            confidence,
            patch,
            gain,
            row="alignment",
            school=school.name,
            mic=mic,
        )
    ]


def _as_a_whole(study: Study, piece: str, alignment: str) -> dict[str, object]:
    """The shift of all mics of a piece: a drum is moved as one body, or not at all."""
    shifts = solution(study, alignment).shifts
    return {
        f"mics.{m}.delay_samples": round(shifts[m], 1) for m in study.close(piece) if m in shifts
    }


def _is_moved(study: Study, mic: str, patch: dict[str, object]) -> bool:
    now = study.sheet.mics[mic].delay_samples
    return patch.get(f"mics.{mic}.delay_samples", now) != now


def _most_lost(
    study: Study, mic: str, alignment: str, span: tuple[float, float]
) -> tuple[float, str]:
    """By how many dB the sum with another mic that the school aligns to becomes thinner at most, and
    which that is; of pairs that are sure and stand the same way up."""
    piece, shifted = parse_mic_name(mic).piece or "", _all_shifted(study, alignment)
    lost = [(0.0, mic)]
    for p in study.facts.pairs:
        upright = p.sure and p.piece == piece and Standing(p, study.sheet).polarity > 0
        other = p.reference if p.mic == mic else p.mic
        meant = parse_mic_name(other).piece == piece or (
            alignment == "overheads" and parse_mic_name(other).role == "overhead"
        )
        if upright and meant and mic in (p.mic, p.reference):
            before, after = (sum_level_db(s, piece, mic, other, *span) for s in (study, shifted))
            lost.append((before - after, other))
    return max(lost)


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


def _all_shifted(study: Study, alignment: str) -> Study:
    """The study with all close mics shifted together, in which each is judged."""

    def shifted() -> Study:
        shifts = solution(study, alignment).shifts
        return study.tried({f"mics.{m}.delay_samples": round(s, 1) for m, s in shifts.items()})

    found: Study = study.remember(("all shifted", alignment), shifted)
    return found


def _wanted(study: Study, mic: str, alignment: str) -> Wanted | None:
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


def _pair_behind(study: Study, mic: str) -> tuple[float, float] | None:
    """`behind_overheads` of a pair of rooms as a whole, for both move together: as much as the one that
    is behind least, lest the other come before the overheads."""
    name = parse_mic_name(mic)
    pair = [
        m for m in study.mics if replace(parse_mic_name(m), side=None) == replace(name, side=None)
    ]
    known = [one for m in pair if (one := behind_overheads(study, m)) is not None]
    return (min(b for b, _ in known), min(c for _, c in known)) if known else None


def _room(study: Study, mic: str, school: School) -> list[Finding]:
    """Rooms drawn in to the overheads, where the school wants them so."""
    found = _pair_behind(study, mic) if school.rooms == "drawn_in" else None
    if found is None:
        return []
    behind, confidence = found
    left = behind + study.sheet.mics[mic].delay_samples
    if abs(left) < IN_STEP_SAMPLES or behind <= 0:
        return []
    patch = {f"mics.{mic}.delay_samples": round(-behind, 1)}
    ms = samples_to_ms(left, study.rate)
    return [
        Finding(
            NAME,
            "delay",
            mic,
            spoken(
                f"{ms:.1f} ms behind the overheads: {label(mic)} is "
                f"{samples_to_cm(left, study.rate) / 100:.1f} m farther away. Drawn in, it adds "
                "to the hit instead of repeating it."
            ),
            {"delay_samples": round(left, 2), "delay_ms": round(ms, 3), "against": "overheads"},
            confidence,
            patch,
            {"behind_ms": Change(round(ms, 2), 0.0)},
            row="rooms",
            school=school.name,
            mic=mic,
        )
    ]


def find_centre(study: Study, role: str, school: School) -> list[Finding]:
    """Where the snare stands between the left and the right overhead or room."""
    shifts = {m: study.sheet.mics[m].delay_samples for m in study.mics}
    centre = centre_of(study.facts.pairs, "snare", role, shifts)
    if centre is None or not centre.sure or centre.samples < LEAST_OFF_CENTRE:
        return []
    now = study.sheet.mics[centre.early].delay_samples
    ms = samples_to_ms(centre.samples, study.rate)
    side = {"l": "left", "r": "right"}[parse_mic_name(centre.early).side or "l"]
    notch = study.rate / centre.samples / 2
    return [
        Finding(
            NAME,
            "centre",
            centre.early,
            spoken(
                f"{ms:.2f} ms ({centre.samples:.0f} samples): the snare reaches "
                f"{label(centre.early)} before {label(centre.late)}. It leans to the {side}, and "
                f"in mono the two cancel from {notch:.0f} Hz on. A delay of that much on "
                f"{label(centre.early)} centres the snare; it moves the other drums too."
            ),
            {
                "samples": centre.samples,
                "ms": round(ms, 3),
                "notch_hz": round(notch, 1),
                "against": centre.late,
            },
            # For the ear: to shift one side moves every other drum as well.
            0.55,
            {f"mics.{centre.early}.delay_samples": round(now + centre.samples, 1)},
            {"apart_samples": Change(centre.samples, 0.0)},
            mic=centre.early,
        )
    ]


def _sided_roles(sheet: Sheet) -> list[str]:
    """Roles of far mics that come as left and right."""
    sides = {(n.role, n.side) for m in kit_mics(sheet) if (n := parse_mic_name(m)).side}
    return [r for r in ("overhead", "room") if {(r, "l"), (r, "r")} <= sides]


def _reads_delays(sheet: Sheet, role: str) -> list[object]:
    return [(m, s.delay_samples) for m, s in sorted(sheet.mics.items())]


MODULE = Module(NAME, "align", 5, kit_mics, reads_all, find_delay)
CENTRE_MODULE = Module(NAME, "align", 1, _sided_roles, _reads_delays, find_centre, for_the_ear=True)
