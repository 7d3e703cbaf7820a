"""Scenes: differences over bars that go together, by the name that they share.

What a chorus has that a verse has not may be six values on four channels. Under one name they are
put over other bars, or taken out, in one change.
"""

from arkund.core.errors import ArkundError
from arkund.core.sheet.differences import Over
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet


def scenes_of(sheet: Sheet) -> dict[str, list[Over]]:
    """The differences of each scene, in the sheet's order."""
    found: dict[str, list[Over]] = {}
    for over in sheet.over:
        if over.scene:
            found.setdefault(over.scene, []).append(over)
    return found


def put_over(sheet: Sheet, scene: str, bars: str) -> Patch:
    """The change that lets a scene hold over ``bars`` (``"9-16, 25-32"``) and nowhere else. Raises
    `ArkundError` where there is no such scene."""
    return {f"over.{over.id}.bars": bars for over in _scene(sheet, scene)}


def taken_out(sheet: Sheet, scene: str) -> Patch:
    """The change that takes all of a scene out; raises `ArkundError` where there is none."""
    return {f"over.{over.id}": None for over in _scene(sheet, scene)}


def _scene(sheet: Sheet, name: str) -> list[Over]:
    found = scenes_of(sheet)
    if name not in found:
        known = f"There are: {', '.join(found)}." if found else "The song has none."
        raise ArkundError(f"There is no scene “{name}”. {known}")
    return found[name]
