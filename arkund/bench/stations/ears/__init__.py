"""Ears: drills from the song's own sound."""

from typing import Any

from django.urls import path

from arkund.bench.stations.ears import views
from arkund.bench.stations.station import Asked, Key, Shot, Station
from arkund.core.ears.skills import SKILLS, skill_named
from arkund.core.errors import ArkundError
from arkund.songs import drills, listening


def _context(asked: Asked) -> dict[str, Any]:
    try:
        skill = skill_named(asked.named("skill") or SKILLS[0].name)
    except ArkundError:
        skill = SKILLS[0]
    return {
        "skill": skill,
        "skills": [
            {"skill": one, "can": bool(one.mics(asked.sheet)), "score": drills.score_of(one)}
            for one in SKILLS
        ],
        "score": drills.score_of(skill),
        "clock": listening.now(),
    }


STATION = Station(
    room="ears",
    slug="ears",
    title="Ears",
    context=_context,
    keys=(
        Key("T", "turn", "hear the other of A and B"),
        Key("Enter", "choose", "choose the one that is heard; then the next round"),
    ),
    addresses=(
        path("<slug:slug>/ears/ask/", views.ask, name="ears-ask"),
        path("<slug:slug>/ears/answer/", views.answer, name="ears-answer"),
    ),
    has_findings=False,
    shots=(Shot("ears", "mic=snare_top&bars=5-6"),),
)
