"""Load-in: the tempo map of a recorded click, or that nobody played to it."""

from typing import Any

from arkund.core.advise.finding import Finding, spoken
from arkund.core.advise.module import Module
from arkund.core.advise.school import School
from arkund.core.advise.study import Study
from arkund.core.graph.hits import played_hits
from arkund.core.kit.roles import label
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of, tempo_of
from arkund.core.timing.click import click_of

NAME = "click"
SAME_S = 0.003
"""The click is what the tempo map says when no bar line differs by more."""


def find(study: Study, mic: str, school: School) -> list[Finding]:
    """The tempo map of a recorded click, or that nobody played to it."""
    sheet = study.sheet
    sound = study.engine.read(study.joined(mic), 0, sheet.frames)
    hits = played_hits(sheet, study.hits_of)
    found = click_of(sound, study.rate, hits, sheet.tempo.beats, sheet.tempo.unit)
    if found is None:
        return [
            Finding(
                NAME,
                "tempo",
                mic,
                f"No regular tick can be made out in {label(mic)}; the tempo stays as it is.",
                {"ticks": 0},
                0.9,
                mic=mic,
            )
        ]
    measured = {
        "ticks": found.ticks,
        "bpm": found.grid.bpm,
        "share": round(found.share, 3),
        "away_ms": round(found.away_ms, 1),
    }
    if not found.played_to:
        return [
            Finding(
                NAME,
                "tempo",
                mic,
                spoken(
                    f"The drummer did not play to the click of {found.grid.bpm:.2f} BPM: "
                    f"{found.share:.0%} of the hits fall near it. Let the tempo follow the drummer."
                ),
                measured,
                0.9,
                mic=mic,
            )
        ]
    now = grid_of(sheet)
    bars = range(1, now.bars_in(sheet.frames / study.rate) + 1)
    if all(abs(now.bar_start_s(b) - found.grid.bar_start_s(b)) < SAME_S for b in bars):
        return []
    steady = "steady" if not found.grid.changes else f"with {len(found.grid.changes)} changes"
    return [
        Finding(
            NAME,
            "tempo",
            mic,
            spoken(
                f"The drummer played to the click: {found.share:.0%} of the hits fall on its "
                f"{found.ticks} ticks (median {found.away_ms:.0f} ms off), {steady} at "
                f"{found.grid.bpm:.2f} BPM. Take the tempo map from it."
            ),
            measured,
            0.95,
            {"tempo": tempo_of(found.grid).model_dump(mode="json")},
            mic=mic,
        )
    ]


def _subjects(sheet: Sheet) -> list[str]:
    return [
        m for m in mic_order(sheet) if sheet.mics[m].role == "click" and not sheet.mics[m].unused
    ]


def _reads(sheet: Sheet, mic: str) -> list[Any]:
    return [sheet.tempo, sheet.frames]


MODULE = Module(NAME, "load-in", 1, _subjects, _reads, find)
