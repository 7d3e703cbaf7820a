"""Moves of stored songs: resolved from the sheet's timing whenever what they rest on changes."""

import hashlib
import json
from functools import lru_cache
from typing import Any

from arkund.core.advise.edit import timing as advised
from arkund.core.advise.edit.timing import edits, placements
from arkund.core.errors import ArkundError, SheetError
from arkund.core.graph.hits import played_hits, take_hits
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.settable import refuse_internal
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.sheet.timing import Timing
from arkund.core.timing.moves import EditList
from arkund.core.timing.quantise import magnet_s
from arkund.core.timing.together import played_apart
from arkund.songs import lately, storage
from arkund.songs.models import Song
from arkund.songs.rendering import sounding_engine
from arkund.songs.studies import study_of

NO_EDITS = EditList((), {})


def retimed(before: Sheet | None, after: Sheet, bars: tuple[int, int] | None = None) -> Sheet:
    """``after`` with the edit list that its timing comes to.

    Reckoned anew from the hits as played where timing, takes, joins or tempo differ from
    ``before``; else the moves stand as they are. With ``bars`` only the sound of those and a
    little around them is put in place, which is enough to hear a try. A list that is not kept
    stays in memory.
    """
    if before is not None and _rests_on(before) == _rests_on(after):
        return after.model_copy(update={"moves": before.moves})
    key = hashlib.sha256(repr([_rests_on(after), bars]).encode()).hexdigest()
    with storage.tile_cache().building(f"moves-{key}"):  # once, for all who ask
        if key not in _reckoned:
            _reckoned[key] = _reckon(after.model_copy(update={"moves": None}), bars, key)
        moves = _reckoned[key]
    while len(_reckoned) > storage.TRIED_EDITS // 2:
        _reckoned.pop(next(iter(_reckoned)), None)
    return after.model_copy(update={"moves": moves})


def _reckon(sheet: Sheet, bars: tuple[int, int] | None, key: str) -> str | None:
    """The name of the edit list that a sheet's timing comes to; None where nothing moves."""
    # What sounds soon waits for nobody; the whole song's list lets sound pass as it goes on.
    study = study_of(sheet, sounding_engine(sheet) if bars else None)
    found = edits(study, _span(sheet, bars))
    if found is None:
        return None
    # The sound of a few bars is never kept: what it was reckoned from names it well enough.
    return storage.name_edits(found, key if bars else None)


_reckoned: dict[str, str | None] = {}


def _span(sheet: Sheet, bars: tuple[int, int] | None) -> tuple[int, int] | None:
    if bars is None:
        return None
    grid = grid_of(sheet)
    first, last = (grid.bar_start_s(b) for b in (bars[0], bars[1] + 1))
    return round(first * sheet.rate), round(last * sheet.rate)


def _rests_on(sheet: Sheet) -> list[Any]:
    return [
        sheet.timing,
        sheet.takes,
        sheet.comp,
        sheet.copies,
        sheet.tempo,
        sheet.frames,
        [(n, m.unused, m.overdub) for n, m in sorted(sheet.mics.items())],
    ]


def sheet_of(
    song: Song,
    revision: int | None = None,
    patch: Patch | None = None,
    bars: tuple[int, int] | None = None,
) -> Sheet:
    """The sheet of a revision (the current one by default) with a try on top; with ``bars``, as
    far as those need it (see `retimed`). Raises `SheetError` where the try sets what no hand may."""
    refuse_internal(patch or {})
    if revision is None or (song.current and song.current.number == revision):
        assert song.current is not None
        sheet = song.current.sheet
    else:
        sheet = song.revisions.get(number=revision).sheet
    if not patch:
        return sheet
    # All chunks and pictures of a try ask for the same.
    return lately.made(
        f"tried {json.dumps([patch, bars], sort_keys=True)}",
        sheet,
        lambda: retimed(sheet, apply_patch(sheet, completed(sheet, patch)), bars),
    )


def kick_alone_ms(sheet: Sheet) -> tuple[float, float]:
    """How far the kick's mics may move alone and how far under them the rest hears it (see
    `arkund.core.advise.timing`), on the hits as played: no rule that is tried changes it."""
    still = sheet.model_copy(update={"timing": Timing(), "moves": None})
    return _kick_alone_of(still.model_dump_json())


@lru_cache(maxsize=8)
def _kick_alone_of(text: str) -> tuple[float, float]:
    return advised.kick_alone_ms(study_of(Sheet.model_validate_json(text)))


def refuse_unknown_hits(sheet: Sheet, patch: Patch) -> None:
    """Raises `SheetError` where a change speaks of a single hit that no take has."""
    said = {
        path.split(".")[2]
        for path, value in patch.items()
        if value is not None and path.startswith(("timing.to_s.", "timing.lines."))
    }
    if said:
        library = storage.library()
        known = {h.id for h in played_hits(sheet, library.hits_of)}
        known |= {h.id for t in sheet.takes for h in take_hits(sheet, t, library.hits_of)}
        if lost := sorted(said - known):
            raise SheetError(f"No take has a hit “{lost[0]}”; `arkund hits` lists their ids.")


def edits_of(sheet: Sheet) -> EditList:
    """The edit list of a sheet; an empty one where nothing is moved."""
    return storage.load_edits(sheet.moves) if sheet.moves else NO_EDITS


def middle_patch(sheet: Sheet, hit_id: str) -> dict[str, Any]:
    """The change that puts the middle between two hits of one event on the line nearest to
    it: the compromise where they cannot be parted. Raises `ArkundError` where they coincide."""
    placed = placements(study_of(sheet))
    pair = next(
        (a for a in played_apart([p.event for p in placed]) if a.event.lead.id == hit_id), None
    )
    if pair is None:
        raise ArkundError("No two hits fall apart there; they may have been changed elsewhere.")
    half = pair.gap_ms / 2000
    middle = pair.event.lead.time_s + half
    to_s = _to_line(sheet, middle, float("inf")) - half
    return {f"timing.to_s.{hit_id}": round(to_s, 6)}


def _to_line(sheet: Sheet, at_s: float, reach_s: float) -> float:
    """The line of the rule that holds at a time (sixteenths without one), within a reach."""
    grid = grid_of(sheet)
    bar = grid.bar_at(at_s)
    rule = next(
        (r for r in reversed(sheet.timing.rules) if r.start_bar <= bar < r.start_bar + r.bars), None
    )
    division, swing = (rule.division, rule.swing) if rule else ("1/16", 0.5)
    return magnet_s(at_s, grid, division, swing, reach_s)


def drag_patch(sheet: Sheet, hit_id: str, to_s: float, reach_ms: float | None) -> dict[str, Any]:
    """The change that puts a hit, and what falls with it, at a time; with ``reach_ms`` the
    nearest line of its bar's division within that reach draws it. Raises `ArkundError` where
    there is no such hit."""
    placed = placements(study_of(sheet))
    found = next((p for p in placed if any(h.id == hit_id for h in p.event.hits)), None)
    if found is None:
        raise ArkundError("That hit is not in the hit list; it may have been changed elsewhere.")
    hit = next(h for h in found.event.hits if h.id == hit_id)
    lead_to = to_s + found.from_s - hit.time_s
    if reach_ms is not None:
        lead_to = _to_line(sheet, lead_to, reach_ms / 1000)
    lead_to = min(max(lead_to, 0.0), sheet.frames / sheet.rate)
    return {f"timing.to_s.{found.event.lead.id}": round(lead_to, 6)}
