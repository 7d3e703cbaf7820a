"""Moves of stored songs: resolved from the sheet's timing whenever what they rest on changes."""

from typing import Any

from arkund.core.advise.timing import edits, placements
from arkund.core.errors import ArkundError
from arkund.core.mix.graph import grid_of
from arkund.core.mix.sheet import Patch, Sheet, apply_patch
from arkund.core.timing.moves import EditList
from arkund.core.timing.quantise import magnet_s
from arkund.songs import storage
from arkund.songs.models import Song
from arkund.songs.studies import study_of

NO_EDITS = EditList((), {})


def retimed(song: Song, before: Sheet | None, after: Sheet) -> Sheet:
    """``after`` with the edit list that its timing comes to.

    Reckoned anew from the strokes as played where timing, takes, joins or tempo differ from
    ``before``; else the moves stand as they are. A list that is not kept stays in memory.
    """
    if before is not None and _rests_on(before) == _rests_on(after):
        return after.model_copy(update={"moves": before.moves})
    found = edits(study_of(song, after.model_copy(update={"moves": None})))
    digest = storage.name_edits(found) if found is not None else None
    return after.model_copy(update={"moves": digest})


def _rests_on(sheet: Sheet) -> list[Any]:
    return [sheet.timing, sheet.takes, sheet.comp, sheet.tempo]


def sheet_of(song: Song, revision: int | None = None, patch: Patch | None = None) -> Sheet:
    """The sheet of a revision (the current one by default) with a try on top."""
    if revision is None or (song.current and song.current.number == revision):
        assert song.current is not None
        sheet = song.current.sheet
    else:
        sheet = song.revisions.get(number=revision).sheet
    return retimed(song, sheet, apply_patch(sheet, patch)) if patch else sheet


def edits_of(sheet: Sheet) -> EditList:
    """The edit list of a sheet; an empty one where nothing is moved."""
    return storage.load_edits(sheet.moves) if sheet.moves else NO_EDITS


def drag_patch(
    song: Song, sheet: Sheet, hit_id: str, to_s: float, reach_ms: float | None
) -> dict[str, Any]:
    """The change that puts a stroke, and what falls with it, at a time; with ``reach_ms`` the
    nearest line of its bar's division within that reach draws it. Raises `ArkundError` where
    there is no such stroke."""
    placed = placements(study_of(song, sheet))
    found = next((p for p in placed if any(h.id == hit_id for h in p.event.hits)), None)
    if found is None:
        raise ArkundError("That stroke is not in the hit list; it may have been changed elsewhere.")
    stroke = next(h for h in found.event.hits if h.id == hit_id)
    lead_to = to_s + found.from_s - stroke.time_s
    if reach_ms is not None:
        grid = grid_of(sheet)
        bar = grid.bar_at(lead_to)
        rule = next((r for r in reversed(sheet.timing.rules)
                     if r.start_bar <= bar < r.start_bar + r.bars), None)  # fmt: skip
        division, swing = (rule.division, rule.swing) if rule else ("1/16", 0.5)
        lead_to = magnet_s(lead_to, grid, division, swing, reach_ms / 1000)
    lead_to = min(max(lead_to, 0.0), sheet.frames / sheet.rate)
    return {f"timing.to_s.{found.event.lead.id}": round(lead_to, 6)}
