"""Parts that several pictures share: hits of a loop, shapes drawn inside rulers."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.nodes import Node
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name
from arkund.core.sheet.sheet import Sheet
from arkund.songs.facts import hits_of
from arkund.songs.rendering import engine_for, grid_of

Bars = tuple[int, int]


def own_hits(sheet: Sheet, mic: str) -> list[Hit]:
    """Hits of the piece that a mic is close to."""
    piece = parse_mic_name(mic).piece
    return [h for h in hits_of(sheet) if h.piece == piece]


def other_hits(sheet: Sheet, mic: str) -> list[Hit]:
    piece = parse_mic_name(mic).piece
    return [h for h in hits_of(sheet) if h.piece != piece]


def loop_frames(sheet: Sheet, bars: Bars) -> tuple[int, int]:
    start, stop = grid_of(sheet).frames_of_bars(*bars, sheet.rate)
    return start, min(stop, sheet.frames)


def whole(sheet: Sheet, node: Node) -> NDArray[np.float32]:
    """A node over the whole song; of processed nodes the tiles stay cached."""
    return engine_for(sheet).read(node, 0, sheet.frames)


def bars_of(
    values: NDArray[np.float64], low: float, high: float, count: int, tone: str
) -> list[list[Any]]:
    """A histogram as ``[from, to, height 0–1, tone]`` rows."""
    if len(values) == 0:
        return []
    counts, edges = np.histogram(np.clip(values, low, high), bins=count, range=(low, high))
    top = counts.max() or 1
    return [
        [round(float(edges[i]), 3), round(float(edges[i + 1]), 3), round(float(c / top), 3), tone]
        for i, c in enumerate(counts)
        if c
    ]


def gap_bars(hits: list[Hit]) -> list[list[Any]]:
    """Gaps to the next hit in ms, as a histogram over a logarithmic ruler."""
    times = np.array([h.time_s for h in hits])
    gaps = np.diff(times) * 1000
    if len(gaps) == 0:
        return []
    counts, edges = np.histogram(
        np.log(np.clip(gaps, 5, 2000)), bins=60, range=(np.log(5), np.log(2000))
    )
    top = counts.max() or 1
    return [
        [
            round(float(np.exp(edges[i])), 2),
            round(float(np.exp(edges[i + 1])), 2),
            round(float(c / top), 3),
            "own",
        ]
        for i, c in enumerate(counts)
        if c
    ]


def note_marks(sheet: Sheet) -> list[list[Any]]:
    """Note lengths in ms with their names."""
    quarter = 60000 / sheet.tempo.bpm
    return [[round(quarter * 4 / n, 2), f"1/{n}"] for n in (32, 16, 8, 4)]


def curve(
    xs: NDArray[np.float64], db: NDArray[np.float64], low: float, high: float, tone: str
) -> dict[str, Any]:
    """An area over a ruler: ``points`` are ``[x, height 0–1]``."""
    heights = np.clip((db - low) / (high - low), 0, 1)
    return {
        "tone": tone,
        "points": [
            [round(float(x), 3), round(float(h), 3)] for x, h in zip(xs, heights, strict=True)
        ],
    }


def rounded(values: NDArray[Any], digits: int = 2) -> list[float]:
    return [round(float(v), digits) for v in values]


def shown_hits(sheet: Sheet, start: int, stop: int) -> list[dict[str, Any]]:
    """Hits of a span, for drawing."""
    first, last = start / sheet.rate, stop / sheet.rate
    return [
        {"piece": h.piece, "t": h.time_s, "v": h.velocity, "kind": h.kind, "sure": h.confidence}
        for h in hits_of(sheet)
        if first <= h.time_s < last
    ]
