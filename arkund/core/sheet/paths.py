"""Values in a plain document, by path.

Stages and bands are addressed by their ids, wherever they stand: ``mics.snare_top.chain.s2.ratio``.
Such a list takes new entries and gives them up as tables do; ``after``, in an entry's value or as a
path of its own, is the id of the one before it (empty: it comes first).
"""

from collections.abc import Iterable, Mapping
from typing import Any

from arkund.core.errors import SheetError
from arkund.core.sheet.channels import CHANNELS, DRUM_BUS


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

_BY_ID = (
    ("over",),
    *((table, "*", "chain") for table in CHANNELS),
    *((table, "*", "chain", "*", "bands") for table in CHANNELS),
    (DRUM_BUS, "chain"),
    (DRUM_BUS, "chain", "*", "bands"),
)
"""Lists whose entries are addressed by their ids. By their place, not their name: a bus may be called
``chain``."""

AFTER = "after"


def at(document: Any, path: str) -> Any:
    """What lies at a path of a document; of ``after`` the id of the entry before."""
    steps = path.split(".")
    for number, step in enumerate(steps):
        if step == AFTER and is_by_id(steps[: number - 1]) and number == len(steps) - 1:
            return before(node_at(document, steps[: number - 1], path), steps[number - 1], path)
    return node_at(document, steps, path)


def node_at(document: Any, steps: list[str], path: str) -> Any:
    """What the steps of a path lead to; raises `SheetError` with the whole ``path`` where nothing is."""
    for number, step in enumerate(steps):
        document = _child(document, step, path, by_id=is_by_id(steps[:number]))
    return document


def is_by_id(parents: list[str]) -> bool:
    """Whether a path leads to a list whose entries are addressed by their ids."""
    return _is_among(_BY_ID, parents)


def before(entries: list[Any], entry: str, path: str) -> str:
    """The id before an entry's, empty for the first."""
    place = _place(entries, entry, path)
    return _id_of(entries[place - 1]) if place else ""


def _place(entries: Any, entry: str, path: str) -> int:
    place = _found(entries, entry)
    if place is None:
        raise no_such(path)
    return place


def _found(entries: Any, entry: str) -> int | None:
    """Where an entry stands. Within one patch a list may have been set to anything."""
    if not isinstance(entries, list):
        return None
    return next((n for n, one in enumerate(entries) if _id_of(one) == entry), None)


def _id_of(entry: Any) -> str:
    return str(entry.get("id", "")) if isinstance(entry, Mapping) else ""


def put(document: Any, path: str, value: Any) -> None:
    """Put a value at a path of a document; raises `SheetError` where it cannot lie there."""
    *parents, last = path.split(".")
    if last == AFTER and is_by_id(parents[:-1]):
        entries = node_at(document, parents[:-1], path)
        place = _place(entries, parents[-1], path)
        entry = entries.pop(place)
        _insert(entries, entry, value, path)
        return
    node = node_at(document, parents, path)
    if is_by_id(parents):
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
        raise no_such(path)


def _put_entry(entries: list[Any], entry: str, value: Any, path: str) -> None:
    """Add, replace or take away one entry of a list by id."""
    if not isinstance(entries, list):
        raise no_such(path)
    there = _found(entries, entry)
    if value is None:
        if there is None:
            raise no_such(path)
        del entries[there]
        return
    if not isinstance(value, Mapping):
        raise RefusedValue(path, f"it should be a JSON object; given was {value!r:.60}.")
    made = {"id": entry, **{k: v for k, v in value.items() if k != AFTER}}
    if made["id"] != entry:
        raise RefusedValue(path, f"it calls itself {made['id']!r:.60}.")
    last = _id_of(entries[-1]) if entries else ""
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
    if not isinstance(after, str) or _found(entries, after) is None:
        raise RefusedValue(path, f"there is nothing called {after!r:.40} that it could come after.")
    entries.insert(_place(entries, after, path) + 1, made)


def touch_alike(one: Patch, other: Patch) -> bool:
    """Whether two changes reach the same values: a path, or one that lies within the other."""
    return any(a == b or a.startswith(f"{b}.") or b.startswith(f"{a}.") for a in one for b in other)


def _is_table(parents: list[str]) -> bool:
    """Whether a path leads to a table that holds entries by name."""
    return _is_among(_TABLES, parents)


def _is_among(patterns: Iterable[tuple[str, ...]], steps: list[str]) -> bool:
    """Whether a path fits one of the patterns; ``*`` stands for any one step."""
    return any(
        len(t) == len(steps) and all(p in ("*", s) for p, s in zip(t, steps, strict=True))
        for t in patterns
    )


def _child(node: Any, step: str, path: str, *, by_id: bool = False) -> Any:
    if by_id and isinstance(node, list):
        return node[_place(node, step, path)]
    if isinstance(node, dict) and step in node:
        return node[step]
    if isinstance(node, list):
        return node[_index(node, step, path)]
    raise no_such(path)


def _index(node: list[Any], step: str, path: str) -> int:
    # ASCII digits only, and few: int() takes other scripts' digits and refuses thousands of them.
    if step.isascii() and step.isdigit() and len(step) < 7 and int(step) < len(node):
        return int(step)
    raise no_such(path)


def no_such(path: str) -> SheetError:
    """The refusal of a path that leads nowhere."""
    return SheetError(f"The sheet has no “{path[:80]}”.")
