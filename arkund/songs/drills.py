"""Ear drills from a song's own sound: rounds asked and answered, and what was heard from week to week."""

import random
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.utils import timezone

from arkund.core.ears.skills import SKILLS, Skill, skill_named
from arkund.core.ears.staircase import Trial, next_size, threshold_of
from arkund.core.errors import ArkundError
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.songs import rendering
from arkund.songs.ladders import SILENT_LUFS
from arkund.songs.models import Drill, Song
from arkund.songs.timing import sheet_of

A_SESSION = timedelta(hours=12)
"""A staircase goes on where it was left for so long; then it begins anew."""

LAST = 60
"""So many of a week's answers say what its threshold is."""

WEEKS = 8
SIDES = ("A", "B")
LONGEST_S = 20.0


@dataclass(frozen=True)
class Asked:
    """A round: its number, the question, and for A and B the patch to hear and its gain in dB."""

    number: int
    asks: str
    node: str
    sides: tuple[dict[str, Any], dict[str, Any]]


def ask(song: Song, name: str, mic: str, start: int, stop: int) -> Asked:
    """The next round of a skill, of a ``mic`` where it can be asked of it, between two samples of the song.

    Raises `ArkundError` where the song has no mic for it, or nothing is heard there.
    """
    skill, sheet = skill_named(name), sheet_of(song)
    mics = skill.mics(sheet)
    if not mics:
        raise ArkundError("This needs two mics of one drum in one group; this song has none.")
    stop = min(stop, start + int(LONGEST_S * sheet.rate))
    size = next_size(_trials(session_of(skill)), skill.within)
    number = Drill.objects.filter(skill=name).count()
    question = skill.made(sheet, mic if mic in mics else mics[number % len(mics)], size, number)
    gains = (
        _gains(sheet, question.patches, question.node, start, stop)
        if question.is_matched
        else (0.0, 0.0)
    )
    changed = random.SystemRandom().randrange(2)
    made = Drill.objects.create(
        song=song, skill=name, size=size, changed=changed, told=question.told
    )
    pair = [
        {"patch": patch, "gain_db": round(gain + more, 3)}
        for patch, gain, more in zip(question.patches, gains, question.gains_db, strict=True)
    ]
    sides = (pair[1], pair[0]) if changed == 0 else (pair[0], pair[1])
    return Asked(made.pk, question.asks, question.node, sides)


def _gains(
    sheet: Sheet, patches: Sequence[dict[str, Any]], node: str, start: int, stop: int
) -> tuple[float, ...]:
    """Gains in dB that bring both down to the softer one."""
    loud = []
    for patch in patches:
        there = apply_patch(sheet, patch) if patch else sheet
        sound = rendering.render_span(
            there, node, "now", start, stop, "", rendering.engine_for(there)
        )
        loud.append(loudness_lufs(sound, sheet.rate))
    if min(loud) <= SILENT_LUFS:
        raise ArkundError("Nothing is heard of that mic in these bars; choose others.")
    return tuple(min(loud) - one for one in loud)


def answer(song: Song, number: int, side: int) -> dict[str, Any]:
    """Take an answer, 0 for A and 1 for B; says whether it was right, and what there was to hear. Raises
    `ArkundError` for a round that is not open."""
    asked = Drill.objects.filter(pk=number, song=song, right=None).first()
    if asked is None:
        raise ArkundError("That round was answered already; ask for the next one.")
    if side not in (0, 1):
        raise ArkundError("Answer A or B.")
    asked.right = side == asked.changed
    asked.save(update_fields=["right"])
    skill = skill_named(asked.skill)
    said = "Right" if asked.right else "No"
    return {
        "right": asked.right,
        "said": f"{said}: {SIDES[asked.changed]} {asked.told}.",
        "score": score_of(skill),
    }


def session_of(skill: Skill) -> list[Drill]:
    """The answered rounds of a skill since it was last begun, the earliest first."""
    rows = list(Drill.objects.filter(skill=skill.name).exclude(right=None).order_by("-pk")[:200])
    kept: list[Drill] = []
    later = timezone.now()
    for row in rows:
        if later - row.created > A_SESSION:
            break
        kept.append(row)
        later = row.created
    return kept[::-1]


def _trials(rows: Sequence[Drill]) -> list[Trial]:
    return [Trial(row.size, bool(row.right)) for row in rows]


def score_of(skill: Skill) -> dict[str, Any]:
    """A skill as the page shows it: today's rounds, and the smallest difference heard, by week, the latest last."""
    since = timezone.now() - timedelta(weeks=WEEKS)
    rows = list(
        Drill.objects.filter(skill=skill.name, created__gte=since)
        .exclude(right=None)
        .order_by("pk")
    )
    weeks: dict[str, list[Drill]] = {}
    for row in rows:
        year, week, _ = timezone.localtime(row.created).isocalendar()
        weeks.setdefault(f"{year}-{week:02d}", []).append(row)
    today = session_of(skill)
    by_week = [
        {
            "week": week,
            "threshold": _rounded(threshold_of(_trials(of[-LAST:]), skill.within)),
            "rounds": len(of),
        }
        for week, of in weeks.items()
    ]
    known = [one["threshold"] for one in by_week if one["threshold"] is not None]
    return {
        "name": skill.name,
        "title": skill.title,
        "unit": skill.unit,
        "rounds": len(today),
        "right": sum(bool(row.right) for row in today),
        "now": known[-1] if known else None,
        "before": known[-2] if len(known) > 1 else None,
        "weeks": by_week,
    }


def _rounded(threshold: float | None) -> float | None:
    return None if threshold is None else float(f"{threshold:.2g}")


def scores() -> list[dict[str, Any]]:
    """Every skill's score."""
    return [score_of(skill) for skill in SKILLS]
