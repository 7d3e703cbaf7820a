"""The edit list of a song: what was moved, by how much and by which rule, and its slices."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family
from arkund.core.once import once
from arkund.core.timing.quantise import Placement
from arkund.core.timing.stretch import AHEAD_S, Anchor, Guide, Slice, plan

ALL = "all"
KICK = "kick"


@dataclass(frozen=True)
class Move:
    """One event: the leading hit's id, its pieces, the source sample where it begins, the leading
    hit's time before and after in s, the rule; ``kick_s`` is how much further the kick's close
    mics went alone. Events that stay are listed too: they hold the sound in place."""

    id: str
    pieces: tuple[str, ...]
    at: int
    from_s: float
    to_s: float
    rule: str
    kick_s: float = 0.0

    @property
    def shift_s(self) -> float:
        return self.to_s - self.from_s


@dataclass(frozen=True)
class EditList:
    """Moves by time, and the slices of every mic (`ALL`) and of the kick's close mics (`KICK`,
    only where they were moved alone). Where only some of the song was put in place, ``put`` are the
    first and the last sample of its events."""

    moves: tuple[Move, ...]
    tracks: Mapping[str, tuple[Slice, ...]]
    put: tuple[int, int] | None = None

    @once
    def columns(self) -> dict[str, tuple[tuple[int, ...], tuple[int, ...], tuple[int, ...]]]:
        """Slices by column: first samples, offsets and fades."""
        return {
            name: (
                tuple(s.at for s in slices),
                tuple(s.offset for s in slices),
                tuple(s.fade for s in slices),
            )
            for name, slices in self.tracks.items()
        }

    def as_dict(self) -> dict[str, Any]:
        return {
            "moves": [dict(vars(m)) for m in self.moves],
            "tracks": {n: [[s.at, s.offset, s.fade] for s in t] for n, t in self.tracks.items()},
        }

    @classmethod
    def from_dict(cls, data: Mapping[str, Any]) -> "EditList":
        moves = tuple(Move(**{**m, "pieces": tuple(m["pieces"])}) for m in data["moves"])
        return cls(moves, {n: tuple(Slice(*s) for s in t) for n, t in data["tracks"].items()})


def edit_list(
    placements: Sequence[Placement],
    guides: Mapping[str, Guide],
    rate: int,
    frames: int,
    span: tuple[int, int] | None = None,
) -> EditList | None:
    """The edit that puts every event where it goes; None where nothing is to be moved.

    ``guides`` maps `ALL`, and `KICK` where there are kick mics, to what splices are chosen on.
    With a ``span`` of samples only the sound in it is put in place, as in the whole edit; the
    moves are all there.
    """
    if not placements:
        return None
    samples = np.rint(
        rate
        * np.array([(p.event.starts_s, p.event.ends_s, p.shift_s, p.kick_s) for p in placements])
    ).astype(int)
    if KICK not in guides:
        samples[:, 3] = 0
    if not samples[:, 2:].any():
        return None
    moves = [
        Move(
            p.event.lead.id,
            p.event.pieces,
            at,
            round(p.from_s, 6),
            round(p.from_s + shift / rate, 6),
            p.rule,
            round(kick / rate, 6),
        )
        for p, (at, _, shift, kick) in zip(placements, samples.tolist(), strict=True)
    ]
    around = round(AROUND_S * rate)
    put = None if span is None else (span[0] - around, span[1] + around)
    near = samples if put is None else samples[_within(samples[:, 0], put)]
    anchors = [Anchor(at, last, shift) for at, last, shift, _ in near.tolist()]
    tracks = {ALL: tuple(plan(anchors, guides[ALL], rate, frames))}
    if samples[:, 3].any():
        alone = [Anchor(at, last, shift + kick) for at, last, shift, kick in near.tolist()]
        tracks[KICK] = tuple(plan(alone, guides[KICK], rate, frames))
    return EditList(tuple(moves), tracks, put)


AROUND_S = 2.5
"""What lies so far outside a span has no part in how its own sound is put in place."""


def _within(at: NDArray[np.int64], put: tuple[int, int]) -> NDArray[np.bool_]:
    return (at >= put[0]) & (at <= put[1])


def moved_hits(
    hits: Sequence[Hit], edits: EditList, rate: int, *, as_put: bool = False
) -> list[Hit]:
    """Hits as they fall after the edit: each goes with the event that begins last before it, of
    which `AHEAD_S` are carried along. With ``as_put`` those stay whose sound was not put in place."""
    starts = np.array([m.at for m in edits.moves]) / rate
    begins = np.array([h.time_s - (h.grace_s or 0.0) for h in hits])
    events = np.searchsorted(starts, begins + AHEAD_S, "right") - 1
    if as_put and edits.put is not None and len(edits.moves):
        at = np.array([m.at for m in edits.moves])
        events = np.where(_within(at, edits.put)[events], events, -1)
    out = []
    for hit, at in zip(hits, events.tolist(), strict=True):
        shift = 0.0
        if at >= 0:
            move = edits.moves[at]
            shift = move.shift_s + (move.kick_s if piece_family(hit.piece) == "kick" else 0.0)
        out.append(replace(hit, time_s=round(hit.time_s + shift, 6)) if shift else hit)
    return out
