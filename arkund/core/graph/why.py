"""Why two nodes have different keys: for who wonders what is rendered anew."""

from collections.abc import Iterator
from dataclasses import fields
from itertools import zip_longest
from typing import Any

from arkund.core.graph.chains import Link
from arkund.core.graph.nodes import Node


def why_keys_differ(before: Node, after: Node) -> list[str]:
    """What differs on the ways to two nodes, each as its way in the graph and what it was and is: a node's
    own settings before those of its inputs. Empty where the keys are the same.
    """
    return list(dict.fromkeys(_apart("", before, after, set())))


def _apart(way: str, before: Any, after: Any, seen: set[tuple[str, str]]) -> Iterator[str]:
    if isinstance(before, Node) and isinstance(after, Node) and type(before) is type(after):
        # What both ways come by twice is looked into once.
        if before.key == after.key or (before.key, after.key) in seen:
            return
        seen.add((before.key, after.key))
        names = [field.name for field in fields(before)]
        ins = sorted(names, key=lambda name: _leads_on(getattr(before, name)))
        for name in ins:
            step = f"{way} › " * bool(way) + f"{type(before).__name__}.{name}"
            yield from _apart(step, getattr(before, name), getattr(after, name), seen)
    elif isinstance(before, Link) and isinstance(after, Link):
        for part in ("processor", "through", "listens"):
            step = f"{way}.{part}"
            yield from _apart(step, getattr(before, part), getattr(after, part), seen)
    elif isinstance(before, tuple) and isinstance(after, tuple):
        for number, (one, two) in enumerate(zip_longest(before, after)):
            yield from _apart(f"{way}[{number}]", one, two, seen)
    elif (was := _said(before)) != (now := _said(after)):
        yield f"{way or 'the node itself'}: {was} → {now}"


def _leads_on(value: Any) -> bool:
    """Whether a field is an input, or holds some."""
    return isinstance(value, (Node, Link)) or (
        isinstance(value, tuple) and any(map(_leads_on, value))
    )


def _said(value: Any) -> str:
    """A setting in words; nodes by their kind."""
    if isinstance(value, Node):
        return f"{type(value).__name__} {value.key[:8]}"
    return repr(value.settings() if hasattr(value, "settings") else value)
