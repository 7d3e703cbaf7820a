"""The recall report: all that was set, with pictures, as one page that prints well."""

import math
from itertools import pairwise
from pathlib import Path
from typing import Any

from django.contrib.staticfiles.finders import find
from django.template.loader import render_to_string

from arkund.bench import card
from arkund.bench.history import GOAL_WORDS, paired
from arkund.core.advise.align.in_step import pair_figures
from arkund.core.advise.eq.ears import NET_HZ
from arkund.core.advise.goal import GOALS, card_of, figures
from arkund.core.kit.roles import BESIDE, label
from arkund.core.sheet.lanes import mic_order
from arkund.songs import cards, findings, recall, storage, todos
from arkund.songs.models import Song

WIDE, HIGH, TOP_DB = 240.0, 60.0, 15.0
HZ_MARKS = (50, 100, 200, 500, 1000, 2000, 5000, 10_000)
STYLE = "bench/report.css"
MOST_REASONS = 4


def page_of(song: Song, *, alone: bool) -> str:
    """The report as HTML; ``alone`` with its style in it, as a file that needs no other."""
    study = findings.study_of_song(song)
    both = card_of(study, recorded=True), card_of(study)
    school = findings.school_of_song(song)
    rows = [
        cards.row(f)
        for f in [*figures(*both, GOALS[school.goal]), *pair_figures(study)]
        if f.has_goal
    ]
    found, sheet = recall.recall_of(song), study.sheet
    context = {
        "song": song,
        "sheet": sheet,
        "revision": song.current,
        "style": Path(str(find(STYLE))).read_text() if alone else "",
        "mics": [_mic(sheet, name) for name in mic_order(sheet)],
        "channels": [_drawn(one) for one in found.channels],
        "plain": ", ".join(found.plain),
        "over": [_setting(one) for one in found.over],
        "card": rows,
        "met": sum(row["met"] for row in rows),
        "hits": card.hits(cards.hits_drawn(study)),
        "hit_box": f"0 0 {card.HIT_WIDTH:g} {card.HIT_HEIGHT:g}",
        "eq_box": f"0 -2 {WIDE:g} {HIGH + 14:g}",
        "hz_marks": [(round(_x(hz), 1), f"{hz // 1000}k" if hz >= 1000 else hz) for hz in HZ_MARKS],
        "zero": HIGH / 2,
        "todos": todos.open_of(song),
        "goal": GOAL_WORDS[school.goal],
    }
    return render_to_string("bench/report.html", context)


def written(song: Song, path: Path) -> int:
    """Write the report to a file; its size in bytes."""
    content = page_of(song, alone=True).encode()
    storage.write_atomically(path, content)
    return len(content)


def _mic(sheet: Any, name: str) -> dict[str, Any]:
    mic = sheet.mics[name]
    beside = "heard beside the drums" if mic.role in BESIDE else ""
    state = mic.unused and f"not used: {mic.unused}"
    return {"name": label(name), "file": mic.file, "state": state or beside}


def _drawn(channel: recall.Recalled) -> dict[str, Any]:
    points = ""
    if channel.eq is not None:
        points = " ".join(
            f"{_x(hz):.1f},{_y(db):.1f}" for hz, db in zip(NET_HZ, channel.eq, strict=True)
        )
    return {
        "title": channel.title,
        "settings": [
            _setting(one, before) for before, one in pairwise((None, *channel.settings)) if one
        ],
        "eq": points,
    }


def _setting(one: recall.Setting, before: recall.Setting | None = None) -> dict[str, Any]:
    """A row; why it is so is said once where it is so for the same reasons as the row before."""
    is_said = before is not None and before.revisions == one.revisions
    return {
        "what": one.what,
        "said": one.said,
        "last": one.last,
        "why": [
            {"words": made.reason or made.label, "pairs": paired(made.measures)[:2]}
            for made in ([] if is_said else one.revisions[-MOST_REASONS:])
        ],
    }


def _x(hz: float) -> float:
    return float(WIDE * math.log(hz / NET_HZ[0]) / math.log(NET_HZ[-1] / NET_HZ[0]))


def _y(db: float) -> float:
    return HIGH / 2 * (1 - min(max(float(db) / TOP_DB, -1.0), 1.0))
