"""Moves of stored songs: resolved from the sheet's timing whenever what they rest on changes."""

import hashlib
import json
from typing import Any

from arkund.core.errors import SheetError
from arkund.core.graph.hits import played_hits, take_hits
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.settable import refuse_internal
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.moves import EditList
from arkund.songs import lately, storage
from arkund.songs.models import Song

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
            # A command that only reads a sheet starts without all that reckoning needs.
            from arkund.songs.moving import edits_in

            found = edits_in(after.model_copy(update={"moves": None}), bars)
            # The sound of a few bars is never kept: what it was reckoned from names it well enough.
            name = storage.name_edits(found, key if bars else None) if found is not None else None
            _reckoned[key] = name
        moves = _reckoned[key]
    while len(_reckoned) > storage.TRIED_EDITS // 2:
        _reckoned.pop(next(iter(_reckoned)), None)
    return after.model_copy(update={"moves": moves})


_reckoned: dict[str, str | None] = {}


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
