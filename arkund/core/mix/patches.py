"""Changes to a sheet: values by path, applied together, and the changes that undo them."""

from collections.abc import Mapping
from typing import Any

from pydantic import ValidationError

from arkund.core.errors import SheetError
from arkund.core.mix.sheet import Sheet, complaint


class RefusedValue(SheetError):
    """A change puts a value where the sheet does not take it: where, and what is wrong."""

    def __init__(self, path: str, said: str) -> None:
        super().__init__(f"{path or 'the sheet'}: {said}")
        self.path, self.said = path, said


Patch = Mapping[str, Any]
"""Changes by path: ``{"mics.snare_top.clean.threshold_db": -32}``."""

_TABLES = (
    ("mics",), ("takes", "*", "sources"), ("takes", "*", "corrections"), ("timing", "to_s"),
    ("timing", "lines"), ("parallel", "*", "sends"),
)  # fmt: skip
"""Where entries come and go by name; None takes one away."""


def read_path(sheet: Sheet, path: str) -> Any:
    """The value at a path as plain JSON data; raises `SheetError` where there is none."""
    return _at(sheet.model_dump(mode="json"), path)


def _at(document: Any, path: str) -> Any:
    for step in path.split("."):
        document = _child(document, step, path)
    return document


def apply_patch(sheet: Sheet, patch: Patch) -> Sheet:
    """A new sheet with the values of ``patch`` in place.

    Raises `SheetError` on an unknown path or a value out of its range. Entries may be added to
    tables (mics, their files, sends, single strokes), from which None takes them away; otherwise
    only what is there can be changed.
    """
    if not patch:
        return sheet
    document = sheet.model_dump(mode="json")
    for path, value in patch.items():
        *parents, last = path.split(".")
        node = document
        for step in parents:
            node = _child(node, step, path)
        if _is_table(parents) and isinstance(node, dict):
            node.pop(last, None)
            if value is not None:
                node[last] = value
        elif isinstance(node, list):
            node[_index(node, last, path)] = value
        elif isinstance(node, dict) and last in node:
            node[last] = value
        else:
            raise _no_such(path)
    try:
        return Sheet.model_validate(document)
    except ValidationError as error:
        raise RefusedValue(*complaint(error)) from None


def inverse_patch(sheet: Sheet, patch: Patch) -> dict[str, Any]:
    """The values that ``patch`` replaces in ``sheet``; None for an entry that a table lacks."""
    out: dict[str, Any] = {}
    document = sheet.model_dump(mode="json") if patch else {}
    for path in patch:
        try:
            out[path] = _at(document, path)
        except SheetError:
            out[path] = None
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


def _child(node: Any, step: str, path: str) -> Any:
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
