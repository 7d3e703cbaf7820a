"""The shifts that a school's alignment asks for."""

from arkund.core.advise.align.polarity import NAME, Standing, reads_all, span_of, sum_level_db
from arkund.core.advise.align.solved import all_shifted, pair_behind, solution, wanted_shift
from arkund.core.advise.finding import Change, Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.align.sparing import MOST_LOST_DB
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.sheet.lanes import kit_mics
from arkund.core.units import samples_to_cm, samples_to_ms

IN_STEP_SAMPLES = 1.0


def find_delay(study: Study, mic: str, school: School) -> list[Finding]:
    """What closes the gap between a mic and the one that it refers to."""
    return _delay(study, mic, school)


def _delay(study: Study, mic: str, school: School) -> list[Finding]:
    name = parse_mic_name(mic)
    if name.piece is None:
        return _room(study, mic, school) if name.role == "room" else []
    wanted = wanted_shift(study, mic, school.alignment)
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
    after = sum_level_db(all_shifted(study, school.alignment), name.piece, mic, reference, *span)
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
    piece, shifted = parse_mic_name(mic).piece or "", all_shifted(study, alignment)
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


def _room(study: Study, mic: str, school: School) -> list[Finding]:
    """Rooms drawn in to the overheads, where the school wants them so."""
    found = pair_behind(study, mic) if school.rooms == "drawn_in" else None
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
                f"{label(mic)} is {ms:.1f} ms behind the overheads "
                f"({samples_to_cm(left, study.rate) / 100:.1f} m farther away). Drawn in, it adds "
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


MODULE = Module(NAME, "align", 5, kit_mics, reads_all, find_delay)
