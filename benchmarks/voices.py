"""How the simulated pieces sound by octaves, as their own mics hear them, beside recorded hits."""

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.kit.roles import close_mics
from arkund.core.simulate.session import Session
from arkund.core.simulate.voice import (
    CENTRES_HZ,
    OCTAVES_DB,
    family_of,
    octave_levels,
    window_s,
)

SOUND_UP_DB = -20.0
"""The lowest octave that is no softer than this, under the loudest, is the first with sound."""

WITHIN_DB = 6.0
BEFORE_S = 4e-4


def pool_voices(session: Session, pool: dict[str, list[Any]]) -> None:
    """Add the octave levels of each piece's hard hits in its own mic (or an overhead)."""
    kit = session.preset.kit
    lowest = {d.piece: d.fundamental_hz for d in kit.drums}
    lowest |= {c.piece: c.lowest_hz for c in kit.cymbals}
    for piece in kit.pieces:
        mics = close_mics(session.mics, piece) or ["overhead_l"]
        sound = session.stems[mics[0]][piece]
        for at, seconds in _hard_hits(session.truth["hits"], piece):
            first = round((at - BEFORE_S) * session.rate)
            levels = octave_levels(sound[first:], session.rate, seconds)
            pool[f"voice {family_of(piece, lowest[piece])}"].append(levels - levels.max())


def _hard_hits(hits: list[dict[str, Any]], piece: str) -> Iterator[tuple[float, float]]:
    """Times of the louder hits that ring for long enough, and for how long at most."""
    own = [h for h in hits if h["piece"] == piece]
    if not own:
        return
    typical = np.median([h["velocity"] for h in own])
    ends = [h["time_s"] for h in own[1:]] + [np.inf]
    for h, end in zip(own, ends, strict=True):
        seconds = min(window_s(piece), end - h["time_s"] - 0.005)
        long_enough = seconds >= 0.6 * window_s(piece)
        if h["velocity"] >= typical and h["kind"] != "open" and long_enough:
            yield h["time_s"], seconds


def table(pool: dict[str, list[Any]]) -> str:
    """The levels by family beside those of recorded hits, and the farthest from them."""
    lines = [
        "| dB under the loudest octave | "
        + " | ".join(f"{c:.0f}" for c in CENTRES_HZ)
        + " | farthest | met |",
        "|---" * (len(CENTRES_HZ) + 3) + "|",
    ]
    for family, wanted in OCTAVES_DB.items():
        if f"voice {family}" not in pool:
            continue
        levels = np.median(pool[f"voice {family}"], axis=0)
        far = farthest(levels - levels.max(), np.array(wanted, float))
        lines += [
            _row(f"{family}, recorded", np.array(wanted), "", ""),
            _row(
                "… simulated",
                levels - levels.max(),
                f"{far:.1f}",
                "yes" if far <= WITHIN_DB else "**no**",
            ),
        ]
    return "\n".join(lines)


def farthest(levels: NDArray[np.float64], wanted: NDArray[np.float64]) -> float:
    """Largest distance in dB from the lowest octave with sound up."""
    first = int(np.argmax(wanted >= SOUND_UP_DB))
    return float(np.abs(levels - wanted)[first:].max())


def _row(name: str, levels: NDArray[Any], far: str, met: str) -> str:
    shown = " | ".join(f"{v:.0f}" for v in levels)
    return f"| {name} | {shown} | {far} | {met} |".replace("-", "−")
