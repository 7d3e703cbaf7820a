"""The punch card as lanes, and the average hits before and after laid over each other."""

from collections.abc import Mapping, Sequence
from typing import Any

from arkund.core.kit.roles import piece_family

WIDTH, ZERO_AT, PER_DB = 280.0, 92.0, 15.0
HIT_WIDTH, HIT_HEIGHT = 132.0, 84.0


def lanes(card: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Each figure that has a goal: where what came out lies on its lane (as recorded is at
    ``zero``), and the stretch that the school asks for."""
    out = []
    for row in card:
        within, wanted, most = (row.get(name) for name in ("within", "wanted", "most"))
        if within is not None:
            first, last = _x(-within), _x(within)
        elif wanted is not None:
            first, last = _x(wanted), WIDTH
        elif most is not None:
            first, last = 0.0, _x(most)
        else:
            continue
        at = _x(row["gained"])
        out.append(
            dict(row)
            | {
                "zero": ZERO_AT,
                "at": at,
                "from": min(ZERO_AT, at),
                "length": abs(at - ZERO_AT),
                "band": first,
                "band_width": round(last - first, 1),
            }
        )
    return out


def _x(db: float) -> float:
    return round(min(max(ZERO_AT + PER_DB * db, 4.0), WIDTH - 4.0), 1)


def hits(drawn: Sequence[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """Each shell's two average hits as points of an SVG: ``before`` closed, to be filled,
    ``now`` a line."""
    out = []
    for one in drawn:
        before, now = _points(one["before"]), _points(one["now"])
        closed = f"0,{HIT_HEIGHT:g} {before} {HIT_WIDTH:g},{HIT_HEIGHT:g}"
        out.append(
            {
                "label": one["label"],
                "family": piece_family(one["piece"]),
                "before": closed,
                "now": now,
            }
        )
    return out


def _points(levels: Sequence[float]) -> str:
    step = HIT_WIDTH / max(len(levels) - 1, 1)
    return " ".join(
        f"{n * step:.1f},{HIT_HEIGHT * (1 - level):.1f}" for n, level in enumerate(levels)
    )
