"""A hit list with what an ear changed about it. The list itself is never altered."""

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Protocol

from arkund.core.hits.hit import Hit, velocity_of


class Change(Protocol):
    """What is said of one hit; None leaves that as it was found."""

    @property
    def gone(self) -> bool: ...
    @property
    def piece(self) -> str | None: ...
    @property
    def time_s(self) -> float | None: ...
    @property
    def velocity(self) -> int | None: ...
    @property
    def kind(self) -> str | None: ...


LEVELS_DB = {"accent": 0.0, "plain": -6.0, "ghost": -15.0, "flam": -2.0, "roll": -10.0}
"""What an added hit's level is taken to be, against the piece's loud hits."""


def corrected(hits: Sequence[Hit], changes: Mapping[str, Change]) -> list[Hit]:
    """``hits`` with hits taken away, changed and added, by time; ids stay. What an ear has
    said is certain."""
    if not changes:
        return list(hits)
    known = {h.id for h in hits}
    out = [
        _changed(h, changes[h.id]) if h.id in changes else h
        for h in hits
        if h.id not in changes or not changes[h.id].gone
    ]
    for name, change in changes.items():
        if name in known or change.gone or change.piece is None or change.time_s is None:
            continue
        kind = change.kind or "plain"
        level = LEVELS_DB[kind]
        out.append(
            Hit(
                name,
                change.piece,
                change.time_s,
                change.velocity or velocity_of(level),
                kind,
                1.0,
                level,
            )
        )
    return sorted(out, key=lambda h: (h.time_s, h.piece))


def _changed(hit: Hit, change: Change) -> Hit:
    said = {
        "piece": change.piece,
        "time_s": change.time_s,
        "velocity": change.velocity,
        "kind": change.kind,
    }
    return replace(hit, confidence=1.0, **{k: v for k, v in said.items() if v is not None})  # type: ignore[arg-type]
