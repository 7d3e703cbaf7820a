"""Where the names on a drawing stand, so that they do not run into each other."""

from collections.abc import Sequence
from dataclasses import dataclass

LETTER, HIGH = 5.3, 10.0
"""Width of a letter and height of a line, in the drawing's units."""

AWAY = 8.0


@dataclass(frozen=True)
class Lettering:
    """A name's place: its foot at ``x``, ``y``, and which end of it stands there."""

    x: float
    y: float
    anchor: str


_Box = tuple[float, float, float, float]


def letter(
    points: Sequence[tuple[float, float, str]], taken: Sequence[_Box], width: float, height: float
) -> list[Lettering]:
    """Places for the names of ``points`` (x, y, name), each beside its own.

    Above, right, left or below, whichever covers least of the other points, of boxes ``taken``
    (left, top, right, bottom) and of names already placed, and stays on the drawing.
    """
    boxes = [*taken, *((x - 5, y - 5, x + 5, y + 5) for x, y, _ in points)]
    out = []
    for x, y, name in points:
        long = LETTER * len(name)
        places = (
            Lettering(x, y - AWAY, "middle"),
            Lettering(x + AWAY, y + 3.5, "start"),
            Lettering(x - AWAY, y + 3.5, "end"),
            Lettering(x, y + AWAY + 7, "middle"),
        )
        best = min(places, key=lambda p: _cost(_box(p, long), boxes, width, height))
        boxes.append(_box(best, long))
        out.append(best)
    return out


def _box(place: Lettering, long: float) -> _Box:
    left = place.x - long * {"start": 0.0, "middle": 0.5, "end": 1.0}[place.anchor]
    return left, place.y - HIGH + 2, left + long, place.y + 2


def _cost(box: _Box, others: Sequence[_Box], width: float, height: float) -> float:
    """Area that is covered, and much more for what lies off the drawing."""
    covered = sum(
        max(0.0, min(box[2], o[2]) - max(box[0], o[0]))
        * max(0.0, min(box[3], o[3]) - max(box[1], o[1]))
        for o in others
    )
    off = max(0.0, -box[0]) + max(0.0, box[2] - width) + max(0.0, -box[1])
    return covered + 50 * (off + max(0.0, box[3] - height))
