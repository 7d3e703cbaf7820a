"""Where pieces and mics stand, seen from above: the plan that serves as navigation.

Metres; x to the audience's left-to-right as the drummer sees it, y away from the drummer, who
sits at the origin and looks along +y. The places are usual ones, not measured ones.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from arkund.core.kit.roles import MicName, parse_mic_name, piece_family


@dataclass(frozen=True)
class PlacedPiece:
    """A piece on the plan: centre and radius in metres."""

    piece: str
    x: float
    y: float
    radius: float


@dataclass(frozen=True)
class PlacedMic:
    """A mic on the plan and the point at which it looks, in metres."""

    mic: str
    x: float
    y: float
    aim_x: float
    aim_y: float


_PIECES = {
    "kick": (0.02, 0.62, 0.24),
    "snare": (-0.3, 0.3, 0.17),
    "hat": (-0.68, 0.5, 0.17),
    "ride": (0.66, 0.95, 0.2),
    "crash": (-0.62, 1.1, 0.2),
}
_FLOOR = (0.5, 0.4, 0.2)


def place_pieces(pieces: Iterable[str]) -> list[PlacedPiece]:
    """Usual places of the given pieces; the last of two or more toms is the floor tom."""
    pieces = list(pieces)
    toms = sorted(p for p in pieces if piece_family(p) == "tom")
    placed = []
    for piece in pieces:
        family = piece_family(piece)
        if family == "tom":
            x, y, radius = _tom_place(toms.index(piece), len(toms))
        else:
            x, y, radius = _PIECES.get(family, (0.85, 0.3, 0.15))
            number = int(piece.rsplit("_", 1)[1]) if piece[-1].isdigit() else 1
            if family == "crash" and number > 1:
                x, y = (0.72, 0.64) if number == 2 else (-0.7, 0.8)
        placed.append(PlacedPiece(piece, x, y, radius))
    return placed


def _tom_place(position: int, count: int) -> tuple[float, float, float]:
    if count >= 2 and position == count - 1:
        return _FLOOR
    racks = max(count - 1, 1)
    spread = 0.7 / racks
    return (-0.3 + spread * (position + 0.5), 1.02, min(0.15, spread * 0.48))


def place_mics(mics: Iterable[str], pieces: list[PlacedPiece]) -> list[PlacedMic]:
    """Usual places of the given mics around the placed pieces."""
    by_piece = {p.piece: p for p in pieces}
    return [_place(mic, parse_mic_name(mic), by_piece) for mic in mics]


_OFFSETS = {
    "kick_in": (0.1, 0.08),
    "kick_out": (0.2, 0.14),
    "kick_sub": (0.24, 0.02),
    "snare_top": (-0.02, 0.2),
    "snare_bottom": (0.06, -0.2),
    "snare_side": (-0.24, 0.0),
    "hat": (-0.14, -0.16),
    "ride": (0.12, 0.22),
    "crash": (-0.1, 0.24),
    "tom": (0.05, 0.2),
}
_AMBIENT = {
    "overhead": ((-0.3, 1.3), (0.34, 1.3)),
    "room": ((-0.84, 0.06), (0.84, 0.06)),
    "crush": ((0.34, 0.08), (0.34, 0.08)),
}


def _place(mic: str, name: MicName, pieces: dict[str, PlacedPiece]) -> PlacedMic:
    target = pieces.get(name.piece or "")
    if target is not None:
        dx, dy = _OFFSETS.get(name.role, (0.1, 0.2))
        return PlacedMic(mic, target.x + dx, target.y + dy, target.x, target.y)
    left, right = _AMBIENT.get(name.role, ((0.85, 1.3), (0.85, 1.3)))
    if name.side is None:
        x, y = (left[0] + right[0]) / 2, (left[1] + right[1]) / 2
    else:
        x, y = left if name.side == "l" else right
    return PlacedMic(mic, x, y, 0.0, 0.6)
