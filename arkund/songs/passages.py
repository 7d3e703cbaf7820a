"""The passages of a stored song by which its drums are judged."""

from dataclasses import asdict
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import grid_of
from arkund.core.timing import passages
from arkund.songs.facts import hits_of


def passages_of(sheet: Sheet, piece: str) -> passages.Passages:
    """Of a piece as the song sounds now."""
    grid = grid_of(sheet)
    return passages.passages(hits_of(sheet), piece, grid, grid.bars_in(sheet.frames / sheet.rate))


def described(sheet: Sheet, piece: str) -> dict[str, Any]:
    """The same for the command line, with the first chorus. Raises `ArkundError` for a piece that is
    never hit."""
    found = asdict(passages_of(sheet, piece))
    if not found["places"]:
        struck = ", ".join(sorted({h.piece for h in hits_of(sheet)}))
        raise ArkundError(
            f"No hit of “{piece[:40]}” was found. Drums with hits: {struck or 'none'}."
        )
    return {"piece": piece, **found, "chorus": chorus_of(sheet)}


def chorus_of(sheet: Sheet) -> dict[str, int] | None:
    """The first section that is called a chorus."""
    found = next((s for s in sheet.sections if "chorus" in s.name.lower()), None)
    if found is None:
        return None
    return {"first": found.start_bar, "last": found.start_bar + found.bars - 1}


def offered(sheet: Sheet, piece: str | None) -> list[dict[str, Any]]:
    """What the strip offers for a drum: words and bars."""
    if not piece:
        return []
    found, chorus = passages_of(sheet, piece), chorus_of(sheet)
    one = (("loudest", found.loudest), ("densest", found.densest), ("softest", found.softest))
    places = [
        {"words": f"place {n} of {len(found.places)}", "place": n, "first": p.first, "last": p.last}
        for n, p in enumerate(found.places, 1)
    ]
    named = [
        {"words": words, "place": 0, "first": p.first, "last": p.last} for words, p in one if p
    ]
    last = [{"words": "chorus", "place": 0, **chorus}] if chorus and places else []
    return [*places, *named, *last]
