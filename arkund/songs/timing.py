"""Moves of stored songs: resolved from the sheet's timing whenever what they rest on changes."""

from typing import Any

from arkund.core.advise.school import School
from arkund.core.advise.timing import edits, placements
from arkund.core.errors import ArkundError
from arkund.core.mix.graph import grid_of, played_hits
from arkund.core.mix.sheet import Patch, Sheet, apply_patch
from arkund.core.timing.meant import swing_of
from arkund.core.timing.moves import EditList
from arkund.core.timing.quantise import best_division, magnet_s, usual_spread_ms
from arkund.core.timing.together import played_apart
from arkund.songs import storage
from arkund.songs.models import Song
from arkund.songs.studies import study_of

SWINGS_FROM = 0.54
"""From here on a pair is played unevenly on purpose."""

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


def fresh_rule(sheet: Sheet, school: School) -> dict[str, Any]:
    """What a new rule starts from, read from the strokes as played: the division and swing they
    are on; feel brings in only what strays from it."""
    hits, grid = played_hits(sheet, storage.load_hits), grid_of(sheet)
    division = best_division(hits, grid)
    rule: dict[str, Any] = {"school": "exact", "division": division, "window_ms": 0.0}
    swing = round(swing_of(hits, grid, division), 2)
    if not division.endswith("t") and swing >= SWINGS_FROM:
        rule["swing"] = swing
    if school.timing != "exact":
        window = min(round(usual_spread_ms(hits, grid, division), 1), 60.0)
        rule |= {"school": "feel", "window_ms": window}
    return rule


def middle_patch(song: Song, sheet: Sheet, hit_id: str) -> dict[str, Any]:
    """The change that puts the middle between two strokes of one event on the line nearest to
    it: the compromise where they cannot be parted. Raises `ArkundError` where they coincide."""
    placed = placements(study_of(song, sheet))
    pair = next((a for a in played_apart([p.event for p in placed])
                 if a.event.lead.id == hit_id), None)  # fmt: skip
    if pair is None:
        raise ArkundError("No two strokes fall apart there; they may have been changed elsewhere.")
    half = pair.gap_ms / 2000
    middle = pair.event.lead.time_s + half
    to_s = _to_line(sheet, middle, float("inf")) - half
    return {f"timing.to_s.{hit_id}": round(to_s, 6)}


def _to_line(sheet: Sheet, at_s: float, reach_s: float) -> float:
    """The line of the rule that holds at a time (sixteenths without one), within a reach."""
    grid = grid_of(sheet)
    bar = grid.bar_at(at_s)
    rule = next((r for r in reversed(sheet.timing.rules)
                 if r.start_bar <= bar < r.start_bar + r.bars), None)  # fmt: skip
    division, swing = (rule.division, rule.swing) if rule else ("1/16", 0.5)
    return magnet_s(at_s, grid, division, swing, reach_s)


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
        lead_to = _to_line(sheet, lead_to, reach_ms / 1000)
    lead_to = min(max(lead_to, 0.0), sheet.frames / sheet.rate)
    return {f"timing.to_s.{found.event.lead.id}": round(lead_to, 6)}
