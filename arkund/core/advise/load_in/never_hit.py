"""Edit: a drum with a mic of its own and no hit in the list. Nothing is done about it on a guess: its
loudest moments are shown, and an ear says *hit* or *bleed*."""

import numpy as np

from arkund.core.advise.finding import Finding
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.hits.moments import Moment, loudest_moments
from arkund.core.kit.roles import is_shell, label
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db

NAME = "never_hit"
MOST_MOMENTS = 6
ANSWERED_S = 0.04
"""A hit or a *bleed* so near a moment answers it."""


def find(study: Study, piece: str, school: School) -> list[Finding]:
    """The question, while any of the moments is unanswered."""
    places = open_moments(study, piece)
    if not places:
        return []
    mic = study.close(piece)[0]
    peak = amplitude_to_db(float(np.abs(study.sound(mic, "source")).max(initial=0.0)))
    count = len(places)
    moments = "moment" if count == 1 else f"{count} moments"
    return [
        Finding(
            NAME,
            "question",
            piece,
            f"{label(piece).capitalize()} has no hit in the list. Listen to its loudest {moments} and "
            "say hit or bleed; until then its mics are left as they are.",
            {
                "hits": 0,
                "peak_dbfs": round(peak, 1),
                "places": [[m.time_s, piece, m.level_dbfs, m.over_db] for m in places],
            },
            0.5,
            mic=mic,
            bars=study.bars_around(places[0].time_s),
        )
    ]


def open_moments(study: Study, piece: str) -> list[Moment]:
    """The loudest moments of a piece that detection found no hit of, those that no ear has judged."""
    mics = study.close(piece)
    if not mics or not study.is_undetected(piece):
        return []
    if study.facts.measures[mics[0]]["peak_dbfs"] <= -150:
        return []
    known = [h.time_s for h in (*study.hits, *study.said_bleed) if h.piece == piece]

    def find_moments() -> list[Moment]:
        others = [h for h in study.hits if h.piece != piece]
        return loudest_moments(study.sound(mics[0], "source"), study.rate, others, MOST_MOMENTS)

    moments: list[Moment] = study.remember(("moments", piece), find_moments)
    return [m for m in moments if all(abs(m.time_s - t) > ANSWERED_S for t in known)]


def _subjects(sheet: Sheet) -> list[str]:
    pieces = {mic.name.piece for mic in sheet.mics.values() if not mic.unused}
    return sorted(piece for piece in pieces if piece and is_shell(piece))


MODULE = Module(
    NAME,
    "edit",
    1,
    _subjects,
    lambda sheet, subject: [sheet.tempo],
    find,
)
