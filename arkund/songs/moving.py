"""Moves hits of a stored song: the edit list that its timing gives, and changes for hits moved by hand."""

from functools import lru_cache
from typing import Any

from arkund.core.advise.edit import timing as advised
from arkund.core.advise.edit.timing import edits, placements
from arkund.core.errors import ArkundError
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.sheet.timing import Timing
from arkund.core.timing.moves import EditList
from arkund.core.timing.quantise import magnet_s
from arkund.core.timing.together import played_apart
from arkund.songs.rendering import sounding_engine
from arkund.songs.studies import study_of


def edits_in(sheet: Sheet, bars: tuple[int, int] | None) -> EditList | None:
    """The edit list that a sheet's timing gives, for some bars or the whole song; None where nothing moves."""
    # What sounds soon waits for nobody; the whole song's list lets sound pass as it goes on.
    study = study_of(sheet, sounding_engine(sheet) if bars else None)
    return edits(study, _span(sheet, bars))


def _span(sheet: Sheet, bars: tuple[int, int] | None) -> tuple[int, int] | None:
    if bars is None:
        return None
    grid = grid_of(sheet)
    first, last = (grid.bar_start_s(b) for b in (bars[0], bars[1] + 1))
    return round(first * sheet.rate), round(last * sheet.rate)


def kick_alone_ms(sheet: Sheet) -> tuple[float, float]:
    """How far the kick's mics may move alone and how far under them the rest hears it (see
    `arkund.core.advise.timing`), on the hits as played: no rule that is tried changes it."""
    still = sheet.model_copy(update={"timing": Timing(), "moves": None})
    return _kick_alone_of(still.model_dump_json())


@lru_cache(maxsize=8)
def _kick_alone_of(text: str) -> tuple[float, float]:
    return advised.kick_alone_ms(study_of(Sheet.model_validate_json(text)))


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
    """The nearest grid line within a reach, by the rule of that bar (sixteenths without one)."""
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
