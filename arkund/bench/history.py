"""The log, the first pass's report and comparisons, in words and paired figures."""

import json
from typing import Any

from arkund.bench import card
from arkund.bench.views.findings import last_pass, last_preview
from arkund.core.advise.findings import STATION_OF
from arkund.core.advise.goal import unit_of
from arkund.core.advise.school import ROWS
from arkund.core.kit.roles import label
from arkund.songs import own_figures, revisions, schools
from arkund.songs.comparing import differences, made_by
from arkund.songs.models import Revision, Song
from arkund.songs.passages import offered

FIGURE_WORDS = {
    "peak_dbfs": ("peak", "dBFS"),
    "pairs_in_step": ("pairs in step", ""),
    "apart_samples": ("apart", "samples"),
    "true_peak_dbtp": ("true peak", "dBTP"),
    "loudness_lufs": ("loudness", "LUFS"),
    "over_full_scale": ("samples over full scale", ""),
    "sum_db": ("sum of the pair", "dB"),
    "bleed_reduction_db": ("bleed taken off", "dB"),
    "below_dbfs": ("below the drum", "dBFS"),
    "ring_dbfs": ("ring", "dBFS"),
    "band_db": ("band", "dB"),
    "typical_dbfs": ("typical hit", "dBFS"),
    "over_db": ("over the typical hit", "dB"),
    "reduction_db": ("reduction", "dB"),
    "attack_to_body_db": ("attack over body", "dB"),
    "offset": ("offset", ""),
    "hum_dbfs": ("hum", "dBFS"),
    "clipped_runs": ("clipped runs", ""),
    "pan": ("pan", ""),
    "return_under_mix_lu": ("return under the mix", "LU"),
    "behind_ms": ("behind", "ms"),
    "chorus_over_verse_lu": ("chorus over verse", "LU"),
}


UNITS = {"db": "dB", "dbfs": "dBFS", "ms": "ms", "hz": "Hz", "lu": "LU", "samples": "samples"}


GOAL_WORDS = next(row.answers for row in ROWS if row.key == "goal")


def figure_words(name: str) -> tuple[str, str]:
    """What a figure is called and its unit."""
    if name in FIGURE_WORDS:
        return FIGURE_WORDS[name]
    stem, _, unit = name.rpartition("_")
    if unit in UNITS:
        return label(stem), UNITS[unit]
    return label(name), unit_of(name.replace("_", " "))


def lines(song: Song) -> list[dict[str, Any]]:
    """Revisions from the latest to the first, each with its measures as paired figures and its names."""
    names: dict[int, list[str]] = {}
    for one in song.snapshots.all():
        names.setdefault(one.revision_id, []).append(one.name)
    return [
        {
            "revision": r,
            "pairs": paired(r.measures),
            "mix": mix_pairs(r.measures),
            "bars": r.measures.get(own_figures.BARS, ""),
            "names": ", ".join(names.get(r.pk, [])),
        }
        for r in revisions.log(song)[::-1]
    ]


def touches(revision: Revision, channel: str) -> bool:
    """Whether a change is of a channel: ``mics.snare_top``, ``drum_bus``; or of the whole of it."""
    return any(f"{path}.".startswith(f"{channel}.") for path in revision.change)


def paired(measures: dict[str, Any]) -> list[dict[str, Any]]:
    out = []
    for name, value in measures.items():
        if isinstance(value, list) and len(value) == 2:
            words, unit = figure_words(name)
            out.append({"words": words, "unit": unit, "now": value[0], "then": value[1]})
    return out


def mix_pairs(measures: dict[str, Any]) -> list[dict[str, Any]]:
    """Before and after of the whole mix, where a first pass noted it."""
    mix = measures.get("mix")
    return _before_after(mix["before"], mix["after"]) if mix else []


LEVELS = ("peak_dbfs", "true_peak_dbtp", "loudness_lufs", "over_full_scale")
"""Of the mix these are shown; passes of old noted more, which the punch card measures otherwise."""


def _before_after(before: dict[str, Any], after: dict[str, Any]) -> list[dict[str, Any]]:
    out = []
    for name in LEVELS:
        if name in before:
            words, unit = figure_words(name)
            pair = {"now": before[name], "then": after.get(name)}
            out.append({"words": words, "unit": unit, "digits": 1 if unit else 0} | pair)
    return out


def first_pass_report(song: Song) -> dict[str, Any]:
    """The last first pass, what it left, and the school with its rows."""
    job = last_pass(song)
    report = job.result if job else None
    preview = last_preview(song)
    shown = preview or report or {}
    return {
        "report": report,
        "preview": preview,
        "mix": _before_after(report["before"], report["after"]) if report else [],
        "made_at": _by_station(song, report["applied"]) if report else [],
        "lanes": card.lanes(shown.get("card", ())),
        "hits": card.hits(shown.get("hits") or shown.get("strokes", ())),
        "goal": GOAL_WORDS[song.school["goal"]],
        "schools": schools.all_names(),
        "rows": [
            {
                "row": row,
                "answers": [
                    (key, words, song.school.get(row.key) == key)
                    for key, words in row.answers.items()
                ],
            }
            for row in ROWS
        ],
    }


def _by_station(song: Song, applied: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """The changes of a pass under the stations at which they were made, each with the revision
    before it, whether it still stands, and what is heard of it: on which mic, in which bars, without what."""
    stands = {r.number: r for r in revisions.log(song)}
    places: dict[str, str] = {}
    out: list[dict[str, Any]] = []
    for step in applied:
        name = step.get("station") or STATION_OF.get(step["id"].split(".")[0], "bus")
        if not out or out[-1]["name"] != name:
            out.append({"name": name, "steps": []})
        number = step["revision"]
        heard = _heard(stands[number], places) if number in stands else {}
        out[-1]["steps"].append(step | {"stands": number in stands, "before": number - 1, **heard})
    return out


def _heard(revision: Revision, places: dict[str, str]) -> dict[str, str]:
    """What is heard of a change: the one mic that it is about, else the drums, where that drum plays loudest
    (``places``, found once for each mic), and what takes the change away again."""
    channels = {tuple(path.split(".")[:2]) for path in revision.change}
    only = next(iter(channels)) if len(channels) == 1 else ("", "")
    mic = only[1] if only[0] == "mics" and len(only) == 2 else ""
    if mic and mic not in places:
        sheet = revision.sheet
        piece = sheet.mics[mic].name.piece if mic in sheet.mics else None
        first = next((p for p in offered(sheet, piece) if not p["place"]), None)
        places[mic] = f"{first['first']}-{first['last']}" if first else ""
    return {
        "node": mic or "output",
        "bars": places.get(mic, ""),
        "without": json.dumps(revision.way_back),
    }


def comparison(song: Song, a: int, b: int) -> dict[str, Any]:
    """What differs between two revisions, value by value: what a hand set and what a finding did, each with the
    revision that did it."""
    first, second = (song.revisions.get(number=n) for n in (a, b))
    between = [(r, list(r.change)) for r in revisions.between(first, second)]
    rows: list[dict[str, Any]] = [
        row | {"made_by": made_by(row["path"], between)}
        for row in differences(first.sheet, second.sheet)
    ]
    by_hand = [row for row in rows if not (row["made_by"] and row["made_by"].finding)]
    return {
        "a": first,
        "b": second,
        "differences": rows,
        "apart": [
            {"called": "Set by hand", "rows": by_hand},
            {"called": "By findings", "rows": [row for row in rows if row not in by_hand]},
        ],
        "choices": revisions.log(song)[::-1],
    }
