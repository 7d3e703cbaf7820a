"""The kit plan as it is drawn: metres to the units of its view box, 208 by 214 for 2.1 by 1.7 m.

The drummer sits at the bottom.
"""

from collections.abc import Iterable
from typing import Any

from arkund.core.kit.plan import PlacedPiece, place_pieces
from arkund.core.kit.roles import label, piece_family

SCALE = 112.0
VIEW_BOX = "0 0 208 214"


def x_of(metres: float) -> float:
    """Across, the drummer in the middle."""
    return round(104 + metres * SCALE, 1)


def y_of(metres: float) -> float:
    """Away from the drummer is up."""
    return round(196 - metres * 138, 1)


def family_of(piece: str) -> str:
    """The family by which a piece is coloured: kick, snare, tom or metal."""
    known = piece_family(piece)
    return known if known in ("kick", "snare", "tom") else "metal"


def drawn(placed: PlacedPiece) -> dict[str, Any]:
    """A piece as a circle."""
    return {
        "piece": placed.piece,
        "label": label(placed.piece),
        "family": family_of(placed.piece),
        "x": x_of(placed.x),
        "y": y_of(placed.y),
        "r": round(placed.radius * SCALE * 0.98, 1),
    }


def small(pieces: Iterable[str]) -> list[dict[str, Any]]:
    """A kit's pieces alone, for a picture of it that is small."""
    return [drawn(one) for one in place_pieces(pieces)]
