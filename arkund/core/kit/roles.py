"""The roles a mic can have, the pieces of a kit, and how both are called."""

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

Role = Literal[
    "kick_in",
    "kick_out",
    "kick_sub",
    "snare_top",
    "snare_bottom",
    "snare_side",
    "hat",
    "ride",
    "crash",
    "tom",
    "overhead",
    "room",
    "crush",
    "percussion",
    "kit",
    "return",
    "click",
    "bed",
    "reference",
    "other",
]
ROLES: tuple[Role, ...] = Role.__args__  # type: ignore[attr-defined]

PIECE_OF_ROLE: dict[str, str] = {
    "kick_in": "kick",
    "kick_out": "kick",
    "kick_sub": "kick",
    "snare_top": "snare",
    "snare_bottom": "snare",
    "snare_side": "snare",
    "hat": "hat",
    "ride": "ride",
    "crash": "crash_1",
}
"""Piece at which a close mic points; toms carry their index."""

SHELLS = ("kick", "snare", "tom")
AMBIENCE: frozenset[str] = frozenset({"overhead", "room", "crush", "kit"})
BESIDE: frozenset[str] = frozenset({"click", "bed", "reference"})
"""Roles that are heard beside the drums and never in them."""

OFF_KIT: frozenset[str] = BESIDE | {"other", "percussion", "return"}
"""Roles that neither bleed nor are aligned; a *return* has come back from outboard."""

# Where several mics hear one piece, the first of these is the one that the others refer to.
_CLOSE_ORDER = (
    "kick_in",
    "kick_out",
    "kick_sub",
    "snare_top",
    "snare_side",
    "snare_bottom",
    "tom",
    "hat",
    "ride",
    "crash",
)


@dataclass(frozen=True)
class MicName:
    """What names a mic in a song: role, index where there are several, side of a pair."""

    role: Role
    index: int | None = None
    side: Literal["l", "r"] | None = None

    def __str__(self) -> str:
        parts: list[str] = [self.role]
        if self.index is not None:
            parts.append(str(self.index))
        if self.side is not None:
            parts.append(self.side)
        return "_".join(parts)

    @property
    def piece(self) -> str | None:
        """Id of the piece that this mic is close to, None for overheads, rooms and the like."""
        if self.role == "tom":
            return f"tom_{self.index or 1}"
        piece = PIECE_OF_ROLE.get(self.role)
        if self.role == "crash":
            return f"crash_{self.index or 1}"
        if self.role in ("ride", "hat") and self.index and self.index > 1:
            return f"{self.role}_{self.index}"
        if piece in ("snare", "kick") and self.index and self.index > 1:
            return f"{piece}_{self.index}"
        return piece

    @property
    def is_close(self) -> bool:
        return self.piece is not None

    @property
    def order(self) -> tuple[int, int, str]:
        """Sort key: the order in which mics are listed everywhere."""
        return (ROLES.index(self.role), self.index or 0, self.side or "")


_NAME = re.compile(r"^([a-z]+(?:_(?:in|out|sub|top|bottom|side))?)(?:_(\d+))?(?:_([lr]))?$")


def parse_mic_name(text: str) -> MicName:
    """`MicName` of ``overhead_l``, ``tom_2`` and the like; raises `ValueError` otherwise."""
    match = _NAME.match(text.strip().lower())
    if match is None or match[1] not in ROLES:
        raise ValueError(f"“{text}” is not a role. Roles are: {', '.join(ROLES)}.")
    index = int(match[2]) if match[2] else None
    side = match[3] if match[3] in ("l", "r") else None
    return MicName(match[1], index, side)  # type: ignore[arg-type]


def roles_at(piece: str | None) -> list[str]:
    """Names of mics that can be close to a piece; without one, of those that are close to none."""
    if piece is not None:
        family, _, number = piece.partition("_")
        if family in ("tom", "crash"):
            return [piece if family == "tom" or number != "1" else "crash"]
        roles = [r for r in ROLES if PIECE_OF_ROLE.get(r) == family]
        return [f"{r}_{number}" if number else r for r in roles]
    pairs = ("overhead", "room")
    out: list[str] = []
    for role in ROLES:
        if role in PIECE_OF_ROLE or role == "tom":
            continue
        out += [f"{role}_l", f"{role}_r", role] if role in pairs else [role]
    return out


def number_mics(names: Sequence[MicName]) -> list[MicName]:
    """The same mics, made unique: toms always numbered, others only where two would collide."""
    out: list[MicName] = []
    taken: set[str] = set()
    for name in names:
        if name.role == "tom" and name.index is None:
            name = replace(name, index=1)
        while str(name) in taken:
            name = replace(name, index=(name.index or 1) + 1)
        taken.add(str(name))
        out.append(name)
    return out


@lru_cache(maxsize=256)
def piece_family(piece: str) -> str:
    """``kick``, ``snare``, ``tom``, ``hat``, ``ride``, ``crash`` … of a piece id."""
    return re.sub(r"_\d+$", "", piece)


def is_shell(piece: str) -> bool:
    """Whether a piece is a drum: kick, snare or tom."""
    return piece_family(piece) in SHELLS


def close_mics(names: Iterable[str], piece: str) -> list[str]:
    """Mics close to ``piece``, the one that the others refer to first."""
    own = [parse_mic_name(name) for name in names]
    own = [name for name in own if name.piece == piece]
    return [str(n) for n in sorted(own, key=lambda n: (_CLOSE_ORDER.index(n.role), n.order))]


PIECE_ORDER = ("kick", "snare", "tom", "hat", "ride", "crash", "cymbal")


def sort_pieces(pieces: Iterable[str]) -> list[str]:
    """Pieces in the order in which they are listed everywhere."""

    def key(piece: str) -> tuple[int, str]:
        family = piece_family(piece)
        return (PIECE_ORDER.index(family) if family in PIECE_ORDER else 99, piece)

    return sorted(set(pieces), key=key)


def label(mic_or_piece: str) -> str:
    """How a mic or piece is written on screen: ``overhead L``, ``snare top``, ``tom 2``."""
    text = mic_or_piece.replace("_", " ")
    return re.sub(r" ([lr])$", lambda m: " " + m[1].upper(), text)
