"""The sections of a stored song: found from its hits, taken over, and measured side by side."""

from collections import Counter
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.sheet.differences import Over
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.form import Found, find_form
from arkund.core.units import amplitude_to_db
from arkund.songs import lately, rendering, revisions
from arkund.songs.facts import hits_of
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import grid_of
from arkund.songs.timing import sheet_of
from arkund.songs.wording import bars_words, over_words, path_words


def found(sheet: Sheet) -> list[Found]:
    """The sections that the hits and the levels of the bars suggest (`core/timing/form.py`)."""
    return lately.made("sections found", sheet, lambda: _find(sheet))


def _find(sheet: Sheet) -> list[Found]:
    grid = grid_of(sheet)
    bars = grid.bars_in(sheet.frames / sheet.rate)
    return find_form(hits_of(sheet), grid, bars, _levels_db(sheet, bars))


def _levels_db(sheet: Sheet, bars: int) -> NDArray[np.float64]:
    """How loud each bar was recorded, from the levels of its shells' hits: a picture asks for it often, and the
    whole kit need not be rendered for it."""
    grid = grid_of(sheet)
    power = np.full(bars, 1e-6)
    for hit in hits_of(sheet):
        bar = int(grid.bar_at(hit.time_s + 0.03)) - 1
        if is_shell(hit.piece) and 0 <= bar < bars:
            power[bar] += 10 ** (hit.level_db / 10)
    return np.asarray(10 * np.log10(power))


def patch_of(parts: list[Found]) -> dict[str, Any]:
    """What takes them over; two of one name are told apart by number."""
    often = Counter(part.name for part in parts)
    count: Counter[str] = Counter()
    rows = []
    for part in parts:
        count[part.name] += 1
        again = often[part.name] > 1 and part.name not in ("intro", "outro")
        name = f"{part.name} {count[part.name]}" if again else part.name
        rows.append({"name": name, "start_bar": part.first, "bars": part.bars})
    return {"sections": rows}


def accept(song: Song) -> Revision:
    """Keep the found sections as a revision; raises `ArkundError` where none are found."""
    sheet = sheet_of(song)
    parts = found(sheet)
    if not parts:
        raise ArkundError("No hits were found, so no sections can be.")
    assert song.current is not None
    words = f"{len(parts)} sections found from the hits"
    return revisions.keep(
        song.pk, song.current.number, patch_of(parts), label=words, station="sections"
    )


def described(sheet: Sheet) -> dict[str, Any]:
    """The song's sections as they stand, and those that are found with what speaks for them."""
    return {
        "sections": [s.model_dump() for s in sheet.sections],
        "found": [
            {**asdict(one), "last": one.first + one.bars - 1, "evidence": ", ".join(one.evidence)}
            for one in found(sheet)
        ],
    }


def side_by_side(sheet: Sheet) -> list[dict[str, Any]]:
    """Each section as it sounds now: loudness and peak of the mix, peak over loudness, hits a bar, and how far its
    ghosts lie under its accents."""
    rows = []
    for section in sheet.sections:
        first, last = section.start_bar, section.start_bar + section.bars - 1
        start, stop = grid_of(sheet).frames_of_bars(first, last, sheet.rate)
        stop = min(stop, sheet.frames)
        if stop - start < sheet.rate // 2:
            continue
        sound = rendering.render_span(sheet, "output", "now", start, stop)
        loud, peak = loudness_lufs(sound, sheet.rate), amplitude_to_db(float(np.abs(sound).max()))
        inside = [h for h in hits_of(sheet) if start <= h.time_s * sheet.rate < stop]
        rows.append(
            {
                "name": section.name,
                "bars": f"{first}–{last}",
                "loudness_lufs": round(loud, 1),
                "peak_dbfs": round(peak, 1),
                "peak_over_loudness_db": round(peak - loud, 1),
                "hits_a_bar": round(len(inside) / section.bars, 1),
                "ghosts_db": _ghosts_db(inside),
            }
        )
    return rows


def _ghosts_db(hits: list[Hit]) -> float | None:
    """How far the middle ghost lies over the middle accent of the snare, in dB (below 0); None without either."""
    levels = {
        kind: [
            h.level_db for h in hits if h.piece.startswith("snare") and (h.kind == "ghost") is soft
        ]
        for kind, soft in (("ghosts", True), ("others", False))
    }
    if not all(levels.values()):
        return None
    return round(float(np.median(levels["ghosts"]) - np.median(levels["others"])), 1)


def ramp_bars(sheet: Sheet, over: Over) -> str:
    """How long a difference takes to come and to go, in bars of the song's tempo, as a number in plain digits."""
    tempo = sheet.tempo
    bar_s = tempo.beats * 60.0 / tempo.bpm * 4.0 / tempo.unit
    return f"{over.ramp_ms / 1000.0 / bar_s:.4f}"


def differences(sheet: Sheet) -> list[dict[str, Any]]:
    """All that differs over bars, by channel: what, where, by how much, within what time."""
    rows = []
    for over in sorted(sheet.over, key=lambda one: (one.path, one.bars)):
        whose, what, unit = path_words(over.path, sheet)
        rows.append(
            {
                "path": f"over.{over.id}",
                "what": f"{whose}: {what}",
                "bars": bars_words(over.bars),
                "typed": over.bars,
                "value": over_words(over, unit),
                "scene": over.scene,
                "follows": over.follows,
                "ramp_bars": ramp_bars(sheet, over),
            }
        )
    return rows
