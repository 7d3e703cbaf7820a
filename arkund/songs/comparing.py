"""What two sheets do not share, value by value, in words."""

import re
from collections.abc import Sequence
from typing import Any

from arkund.core.sheet.sheet import Sheet
from arkund.songs.models import Revision
from arkund.songs.wording import path_words, value_words


def differences(first: Sheet, second: Sheet) -> list[dict[str, str]]:
    """Every value that two sheets do not share, in words."""
    a, b = _flat(first.model_dump(mode="json")), _flat(second.model_dump(mode="json"))
    out = []
    for path in dict.fromkeys([*a, *b]):
        if a.get(path) != b.get(path) and not _is_name(a.get(path)) and not _is_name(b.get(path)):
            whose, what, unit = path_words(path, second)
            out.append(
                {
                    "path": path,
                    "whose": whose,
                    "what": what,
                    "a": value_words(a.get(path, "–"), unit),
                    "b": value_words(b.get(path, "–"), unit),
                }
            )
    return out


def made_by(path: str, between: Sequence[tuple[Revision, Sequence[str]]]) -> Revision | None:
    """The latest of some revisions, each with the paths that it set, that set a path, something in it or what it lies
    in; None where none did: what follows from another change."""

    def touches(own: str) -> bool:
        return own == path or own.startswith(f"{path}.") or path.startswith(f"{own}.")

    return next((r for r, paths in reversed(between) if any(map(touches, paths))), None)


def _is_name(value: Any) -> bool:
    """Whether a value is a content hash: what follows from others and says nothing to an eye."""
    return isinstance(value, str) and re.fullmatch(r"[0-9a-f]{64}", value) is not None


def _flat(value: Any, path: str = "") -> dict[str, Any]:
    """Leaves of a document by path; lists of hits or runs count as one value."""
    if isinstance(value, dict):
        return {
            k: v
            for key, inner in value.items()
            for k, v in _flat(inner, f"{path}.{key}" if path else key).items()
        }
    if isinstance(value, list) and path.rpartition(".")[2] in ("chain", "bands"):
        return {
            k: v
            for one in value
            for k, v in _flat(one, f"{path}.{one['id']}").items()
            if k != f"{path}.{one['id']}.id"
        }
    return {path: value}
