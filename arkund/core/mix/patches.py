"""Changes to a sheet: values by path, applied together, and the changes that undo them.

Stages and bands are addressed by their ids, wherever they stand: ``mics.snare_top.chain.s2.ratio``.
Such a list takes new entries and gives them up as tables do; ``after``, in an entry's value or as a
path of its own, is the id of the one before it (empty: it comes first).
"""

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from arkund.core.errors import SheetError
from arkund.core.mix.sheet import Sheet, complaint


class RefusedValue(SheetError):
    """A change puts a value where the sheet does not take it: where, and what is wrong."""

    def __init__(self, path: str, said: str) -> None:
        super().__init__(f"{path}: {said}" if path else f"{said[:1].upper()}{said[1:]}")
        self.path, self.said = path, said


Patch = Mapping[str, Any]
"""Changes by path: ``{"mics.snare_top.clean.threshold_db": -32}``."""

_TABLES = (
    ("mics",),
    ("takes", "*", "sources"),
    ("takes", "*", "corrections"),
    ("timing", "to_s"),
    ("timing", "lines"),
    ("buses",),
    ("groups",),
    ("layers",),
    ("buses", "*", "sends"),
    ("mics", "*", "clean", "regions"),
)
"""Where entries come and go by name; None takes one away."""

_BY_ID = ("chain", "bands", "over")
"""Lists whose entries are addressed by their ids."""

AFTER = "after"


def read_path(sheet: Sheet, path: str) -> Any:
    """The value at a path as plain JSON data; raises `SheetError` where there is none."""
    return _at(sheet.model_dump(mode="json"), path)


def _at(document: Any, path: str) -> Any:
    steps = path.split(".")
    for number, step in enumerate(steps):
        if step == AFTER and _is_by_id(steps[: number - 1]) and number == len(steps) - 1:
            return _before(_node(document, steps[: number - 1], path), steps[number - 1], path)
    return _node(document, steps, path)


def _node(document: Any, steps: list[str], path: str) -> Any:
    for number, step in enumerate(steps):
        document = _child(document, step, path, by_id=_is_by_id(steps[:number]))
    return document


def _is_by_id(parents: list[str]) -> bool:
    return bool(parents) and parents[-1] in _BY_ID


def _before(entries: list[Any], entry: str, path: str) -> str:
    """The id before an entry's, empty for the first."""
    place = _place(entries, entry, path)
    return str(entries[place - 1]["id"]) if place else ""


def _place(entries: list[Any], entry: str, path: str) -> int:
    for place, one in enumerate(entries):
        if one.get("id") == entry:
            return place
    raise _no_such(path)


def apply_patch(sheet: Sheet, patch: Patch) -> Sheet:
    """A new sheet with the values of ``patch`` in place.

    Raises `SheetError` on an unknown path or a value out of its range. Entries may be added to
    tables (groups, buses, sends, single strokes) and to lists by id (stages, bands), from which
    None takes them away; otherwise only what is there can be changed.
    """
    if not patch:
        return sheet
    document = sheet.model_dump(mode="json")
    for path, value in patch.items():
        _put(document, path, value)
    try:
        return Sheet.model_validate(document)
    except ValidationError as error:
        raise RefusedValue(*complaint(error)) from None


def _put(document: Any, path: str, value: Any) -> None:
    *parents, last = path.split(".")
    if last == AFTER and _is_by_id(parents[:-1]):
        entries = _node(document, parents[:-1], path)
        entry = entries.pop(_place(entries, parents[-1], path))
        _insert(entries, entry, value, path)
        return
    node = _node(document, parents, path)
    if _is_by_id(parents):
        _put_entry(node, last, value, path)
    elif _is_table(parents) and isinstance(node, dict):
        node.pop(last, None)
        if value is not None:
            node[last] = value
    elif isinstance(node, list):
        node[_index(node, last, path)] = value
    elif isinstance(node, dict) and last in node:
        node[last] = value
    else:
        raise _no_such(path)


def _put_entry(entries: list[Any], entry: str, value: Any, path: str) -> None:
    """Add, replace or take away one entry of a list by id."""
    there = next((n for n, one in enumerate(entries) if one.get("id") == entry), None)
    if value is None:
        if there is None:
            raise _no_such(path)
        del entries[there]
        return
    if not isinstance(value, Mapping):
        raise RefusedValue(path, f"it should be a JSON object; given was {value!r:.60}")
    made = {"id": entry, **{k: v for k, v in value.items() if k != AFTER}}
    if made["id"] != entry:
        raise RefusedValue(path, f"it calls itself {made['id']!r:.60}")
    last = str(entries[-1]["id"]) if entries else ""
    after = value.get(AFTER, last if there is None else None)
    if there is None:
        _insert(entries, made, after, path)
    elif after is None:
        entries[there] = made
    else:
        del entries[there]
        _insert(entries, made, after, path)


def _insert(entries: list[Any], made: Any, after: Any, path: str) -> None:
    if after == "":
        entries.insert(0, made)
        return
    if not isinstance(after, str) or not any(one.get("id") == after for one in entries):
        raise RefusedValue(path, f"there is nothing called {after!r:.40} that it could come after")
    entries.insert(_place(entries, after, path) + 1, made)


def inverse_patch(sheet: Sheet, patch: Patch) -> dict[str, Any]:
    """The values that ``patch`` replaces in ``sheet``; None for an entry that a table lacks."""
    out: dict[str, Any] = {}
    document = sheet.model_dump(mode="json") if patch else {}
    for path in patch:
        try:
            out[path] = _at(document, path)
        except SheetError:
            out[path] = None
        *parents, last = path.split(".")
        if _is_by_id(parents) and out[path] is not None:
            # Taken away and put back, it comes back to its place.
            out[path] = {**out[path], AFTER: _before(_node(document, parents, path), last, path)}
    return out


def touch_alike(one: Patch, other: Patch) -> bool:
    """Whether two changes reach the same values: a path, or one that lies within the other."""
    return any(a == b or a.startswith(f"{b}.") or b.startswith(f"{a}.") for a in one for b in other)


def _is_table(parents: list[str]) -> bool:
    """Whether a path leads to a table that holds entries by name."""
    return any(
        len(t) == len(parents) and all(p in ("*", s) for p, s in zip(t, parents, strict=True))
        for t in _TABLES
    )


def _child(node: Any, step: str, path: str, *, by_id: bool = False) -> Any:
    if by_id and isinstance(node, list):
        return node[_place(node, step, path)]
    if isinstance(node, dict) and step in node:
        return node[step]
    if isinstance(node, list):
        return node[_index(node, step, path)]
    raise _no_such(path)


def _index(node: list[Any], step: str, path: str) -> int:
    # ASCII digits only, and few: int() takes other scripts' digits and refuses thousands of them.
    if step.isascii() and step.isdigit() and len(step) < 7 and int(step) < len(node):
        return int(step)
    raise _no_such(path)


def _no_such(path: str) -> SheetError:
    return SheetError(f"The sheet has no “{path[:80]}”.")
