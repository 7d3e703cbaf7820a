"""Changes to a sheet: values by path (`core/sheet/paths.py`), applied together, and the changes that undo
them.
"""

from typing import Any

from pydantic import ValidationError

from arkund.core.errors import SheetError
from arkund.core.sheet.complaints import complaint
from arkund.core.sheet.paths import (
    AFTER,
    Patch,
    RefusedValue,
    at,
    before,
    is_by_id,
    node_at,
    put,
    touch_alike,
)
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.within import apply_within

__all__ = [
    "Patch",
    "RefusedValue",
    "apply_patch",
    "apply_within",
    "inverse_patch",
    "read_path",
    "touch_alike",
]


def read_path(sheet: Sheet, path: str) -> Any:
    """The value at a path as plain JSON data; raises `SheetError` where there is none."""
    return at(sheet.model_dump(mode="json"), path)


def apply_patch(sheet: Sheet, patch: Patch) -> Sheet:
    """A new sheet with the values of ``patch`` in place.

    Raises `SheetError` on an unknown path or a value out of its range. Entries may be added to
    tables (groups, buses, sends, single hits) and to lists by id (stages, bands), from which
    None takes them away; otherwise only what is there can be changed.
    """
    if not patch:
        return sheet
    document = sheet.model_dump(mode="json")
    for path, value in patch.items():
        put(document, path, value)
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
            out[path] = at(document, path)
        except SheetError:
            out[path] = None
        *parents, last = path.split(".")
        if is_by_id(parents) and out[path] is not None:
            # Taken away and put back, it comes back to its place.
            out[path] = {**out[path], AFTER: before(node_at(document, parents, path), last, path)}
    return out
