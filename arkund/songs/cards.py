"""The punch card of a stored song: what was wanted, what the recording has, what it is now."""

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.align.in_step import pair_figures
from arkund.core.advise.by_stage import by_stage, causes_of
from arkund.core.advise.goal import GOALS, MET, Figure, card_of, figures, hits_of
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.building import build
from arkund.core.kit.roles import label
from arkund.core.measure.punch import average_hits
from arkund.songs import findings, schools
from arkund.songs.models import Song


def card_report(song: Song, school_name: str = "") -> dict[str, Any]:
    """The card against the goal of a school (the song's own by default), as recorded, now, and with
    each kind of stage left out. Raises `ArkundError` for a school that is not there."""
    school = schools.named(school_name) if school_name else findings.school_of_song(song)
    study = findings.study_of_song(song)
    rows = rows_of(study, school)
    return {
        "school": school.name,
        "wanted": {r["name"]: r["wanted"] for r in rows if r["wanted"] is not None},
        "as_recorded": {r["name"]: r["recorded"] for r in rows},
        "now": {r["name"]: r["now"] for r in rows},
        "missed": [r["name"] for r in rows if not r["met"]],
        "by_stage": by_stage(study, school),
    }


WORST = 3
"""So many figures come first: of those that moved, those that miss their goal by most, or meet it most
narrowly."""


def rows_of(study: Study, school: School) -> list[dict[str, Any]]:
    """The card's figures as rows, the `WORST` first: ``name``, ``unit``, ``recorded``, ``now``, ``gained``,
    what is asked of the gain (``wanted`` at least, ``within``, at ``most``; in words ``wish``), by how much
    that is ``missing``, whether it is ``met``; and of one that is missed the kind of stage that is the
    ``cause`` and its ``station``, where one is."""
    both = card_of(study, recorded=True), card_of(study)
    found = [*figures(*both, GOALS[school.goal]), *pair_figures(study)]
    # A lag in ms that is met is not narrower than a level in dB: it comes first only where it is missed.
    is_narrow = [not f.is_met or (f.unit != "ms" and abs(f.gained) > MET) for f in found]
    moved = [f for f, narrow in zip(found, is_narrow, strict=True) if f.has_goal and narrow]
    worst = sorted(moved, key=lambda f: -f.missing())[:WORST]
    missed = [f for f in found if not f.is_met]
    causes = causes_of(study, school, missed) if missed else {}
    rows = []
    for f in [*worst, *(f for f in found if f not in worst)]:
        cause = causes.get(f.name)
        named = {"cause": cause.kind, "station": cause.station} if cause else {}
        rows.append(row(f) | named)
    return rows


def hits_drawn(study: Study) -> list[dict[str, Any]]:
    """The average hit of each shell in the mix as recorded and now, at equal loudness:
    ``piece``, ``label``, and levels over time, 1 the higher of both peaks."""
    hits = hits_of(study)
    recorded = build(study.sheet, study.library, "recorded").output
    sounds = (study.engine.read_apart(recorded, 0, study.sheet.frames), study.mix())
    with ThreadPoolExecutor(2) as pool:
        both = list(pool.map(lambda sound: average_hits(sound, study.rate, hits), sounds))
    return [drawn(piece, then, both[1][piece]) for piece, then in both[0].items()]


def drawn(piece: str, before: NDArray[np.float64], now: NDArray[np.float64]) -> dict[str, Any]:
    """One shell's two hits against the higher peak of both."""
    top = max(float(before.max()), float(now.max()), 1e-9)
    return {
        "piece": piece,
        "label": label(piece),
        **{
            k: [round(float(v), 3) for v in line / top]
            for k, line in (("before", before), ("now", now))
        },
    }


def row(figure: Figure) -> dict[str, Any]:
    """One figure."""
    return {
        "name": figure.name,
        "unit": figure.unit,
        "recorded": round(figure.recorded, 1),
        "now": round(figure.now, 1),
        "gained": round(figure.gained, 1),
        "wanted": figure.wanted,
        "within": figure.within,
        "most": figure.most,
        "wish": figure.wish if figure.has_goal else "",
        "missing": round(figure.missing(), 2) if figure.has_goal else None,
        "met": figure.is_met,
    }
