"""Differences that move with their section: where its borders go, they go."""

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from pydantic import TypeAdapter, ValidationError

from arkund.core.sheet.sheet import Section, Sheet

Move = tuple[Section, Section]
"""A section before and after a change."""


def followed(sheet: Sheet, patch: Mapping[str, Any]) -> dict[str, Any]:
    """The bars of differences that move with their sections, where a patch sets new ones. A section is known by its
    name, of several of one name by their order; a difference in none, or in one that goes, stays with its bars."""
    moves = _moves(sheet.sections, patch.get("sections"))
    if not moves:
        return {}
    out = {}
    for over in sheet.over:
        bars = ", ".join(_words(_moved(span, moves)) for span in over.spans)
        if (
            over.follows
            and bars != over.bars
            and not any(p.startswith(f"over.{over.id}") for p in patch)
        ):
            out[f"over.{over.id}.bars"] = bars
    return out


def _moves(before: Sequence[Section], wanted: Any) -> list[Move]:
    if wanted is None:
        return []
    try:
        after = TypeAdapter(tuple[Section, ...]).validate_python(wanted)
    except ValidationError:
        return []  # who applies the patch refuses it in words
    there = dict(zip(_names(after), after, strict=True))
    return [
        (one, there[name])
        for name, one in zip(_names(before), before, strict=True)
        if name in there
    ]


def _names(sections: Sequence[Section]) -> list[tuple[str, int]]:
    count: Counter[str] = Counter()
    out = []
    for one in sections:
        count[one.name] += 1
        out.append((one.name, count[one.name]))
    return out


def _moved(span: tuple[int, int], moves: Sequence[Move]) -> tuple[int, int]:
    """An end on a border goes where that border goes; what touches neither keeps its place behind the beginning."""
    (first, last), home = span, _home(span[0], moves)
    until = _home(span[1], moves)
    if home is None or until is None:
        return span
    begins, ends = home[1].start_bar - home[0].start_bar, _end(until[1]) - _end(until[0])
    if home is until:
        at_start, at_end = first == home[0].start_bar, last == _end(home[0])
        by_first = ends if at_end and not at_start else begins
        by_last = ends if at_end else begins
    else:
        by_first = begins
        by_last = ends if last == _end(until[0]) else until[1].start_bar - until[0].start_bar
    first = min(max(first + by_first, home[1].start_bar), _end(home[1]))
    return first, max(first, min(last + by_last, _end(until[1])))


def _home(bar: int, moves: Sequence[Move]) -> Move | None:
    return next((m for m in moves if m[0].start_bar <= bar <= _end(m[0])), None)


def _end(section: Section) -> int:
    return section.start_bar + section.bars - 1


def _words(span: tuple[int, int]) -> str:
    first, last = span
    return str(first) if first == last else f"{first}-{last}"
