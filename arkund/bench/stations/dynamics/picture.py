"""Shape, dynamics: hits of the loop before and after a stage, what it takes off, the average
hit along the chain."""

from collections.abc import Callable
from typing import Any, cast

import numpy as np
from numpy.typing import NDArray

from arkund.bench.drawing import (
    Bars,
    bars_of,
    curve,
    gap_bars,
    loop_frames,
    note_marks,
    rounded,
)
from arkund.bench.in_hand import InHand
from arkund.core.graph.graph import Chained
from arkund.core.graph.nodes import Node
from arkund.core.hits.hit import Hit
from arkund.core.measure.hits import mean_envelope_db
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.loudness import true_peak_dbtp
from arkund.core.process.stage import Audio, Stage, Tracing
from arkund.core.process.transient import Transient
from arkund.core.process.values import described
from arkund.core.shape.compressor import TRACE_STEP
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitudes_to_db
from arkund.songs.rendering import engine_for, graph_of

COLUMNS = 600
ENVELOPE_S = 0.3
SMALL = 48
"""Points of the small average hits in the line of stages."""


def picture(sheet: Sheet, hand: InHand, stage: Stage | None, bars: Bars) -> dict[str, Any]:
    """What the page shows of a channel's stage; of the chain alone without one."""
    chained = graph_of(sheet).chain(hand.name)
    start, stop = loop_frames(sheet, bars)
    hits = [h for h in hand.hits(sheet) if start <= h.time_s * sheet.rate < stop]
    inside = [h.time_s - start / sheet.rate for h in hits]
    loud = [t for t, h in zip(inside, hits, strict=True) if h.kind != "ghost"]
    out: dict[str, Any] = {
        "span": [start, stop],
        "chain": small_hits(sheet, chained, start, stop, loud),
    }
    if stage is None:
        return out | {"hits": [], "reduction": [], "most_db": 0.0, "rulers": {}}
    engine, rate = engine_for(sheet), sheet.rate
    before = _level(engine.read(chained.before(stage.id), start, stop))
    after = _level(engine.read(chained.tap(stage.id), start, stop))
    heard = chained.keys.get(stage.id)
    reduction = reduction_over(sheet, chained.before(stage.id), stage, start, stop, heard)
    peaks, then = (amplitudes_to_db(hit_peaks(x, rate, inside)) for x in (before, after))
    envelopes = [mean_envelope_db(x, rate, inside, ENVELOPE_S, 150) for x in (before, after)]
    return out | {
        "hits": [
            {"t": h.time_s, "before": b, "after": a, "kind": h.kind}
            for h, b, a in zip(hits, rounded(peaks, 1), rounded(then, 1), strict=True)
        ],
        "reduction": reduction,
        "most_db": round(max(reduction, default=0.0), 1),
        "said": stage.said_of(peaks, max(reduction, default=0.0)) if stage.on else "bypassed",
        "envelope": {
            "seconds": ENVELOPE_S,
            "before": rounded(envelopes[0], 1),
            "after": rounded(envelopes[1], 1),
        },
        "bands": by_band(stage, before, after, rate, inside),
        "transfer": transfer(stage),
        "rulers": drawings(
            stage_path(hand.path, stage), stage, sheet, hits, before, peaks, envelopes[0]
        ),
    }


def by_band(
    stage: Stage, before: Audio, after: Audio, rate: int, times: list[float]
) -> list[dict[str, Any]]:
    """The average hit before and after a transient shaper in each of its bands; nothing where it has one."""
    if not isinstance(stage, Transient) or not stage.bands:
        return []
    edges = [0.0, *(band.frequency_hz for band in stage.above)]
    words = ["lowest", *(f"from {hz:.0f} Hz" for hz in edges[1:])]
    envelopes = [
        [mean_envelope_db(band, rate, times, ENVELOPE_S, SMALL) for band in stage.in_bands(x, rate)]
        for x in (before, after)
    ]
    return [
        {"words": said, "before": rounded(b, 1), "after": rounded(a, 1)}
        for said, b, a in zip(words, *envelopes, strict=True)
    ]


def _level(sound: Audio) -> Audio:
    """One side, the louder of two at each sample."""
    return np.ascontiguousarray(louder_side(sound))


def small_hits(
    sheet: Sheet, chained: Chained, start: int, stop: int, inside: list[float]
) -> list[dict[str, Any]]:
    """The average hit as it comes in and after each stage, 160 ms of it, as amplitudes against
    the peak of what comes in."""
    engine, top = engine_for(sheet), 0.0
    out = []
    for name, node in (("", chained.entry), *chained.after.items()):
        sound = _level(engine.read(node, start, stop))
        if not inside:
            out.append({"id": name, "hit": [0.0] * SMALL})
            continue
        db = mean_envelope_db(sound, sheet.rate, inside, 0.16, SMALL)
        amplitude = 10 ** (db / 20)
        top = top or float(amplitude.max()) or 1.0
        out.append({"id": name, "hit": rounded(np.clip(amplitude / top, 0, 1.25), 3)})
    return out


def drawings(
    path: str,
    stage: Stage,
    sheet: Sheet,
    hits: list[Hit],
    before: Audio,
    peaks: NDArray[np.float64],
    envelope: NDArray[np.float64],
) -> dict[str, Any]:
    """What stands in a stage's rulers, as the stage says which of its values the hits speak of."""
    times = np.linspace(0.05, ENVELOPE_S * 1000, len(envelope))
    measured: dict[str, Callable[[float], dict[str, Any]]] = {
        "hit": lambda low: {
            "areas": [curve(times, envelope - envelope.max(initial=-200.0), -40, 0, "own")]
        },
        "gaps": lambda low: {"bars": gap_bars(hits), "marks": note_marks(sheet)},
        "peaks": lambda low: {"bars": bars_of(peaks, low, 0, 40, "own")},
    }
    out: dict[str, dict[str, Any]] = {}
    for name, what in stage.measured.items():
        low = described(type(stage))[name].ends[0]
        out[f"{path}.{name}"] = measured[what](low)
    top = true_peak_dbtp(before) if len(before) else -200.0
    for name, note in stage.noted(peaks, top).items():
        out.setdefault(f"{path}.{name}", {})["note"] = note
    for name, mark in stage.proposed(peaks).items():
        out.setdefault(f"{path}.{name}", {})["proposed"] = mark
    return out


def reduction_over(
    sheet: Sheet, source: Node, stage: Stage, start: int, stop: int, heard: Node | None = None
) -> list[float]:
    """Gain reduction in dB over a span in `COLUMNS` steps, the largest of each; none of a stage
    that reduces nothing. ``heard`` is what its detector hears, where that is something else."""
    if not stage.reduces or stage.is_transparent:
        return [0.0] * COLUMNS
    process = cast(Tracing, stage.process(sheet.rate))
    lead = min(process.memory, start)
    engine = engine_for(sheet)
    sound = np.ascontiguousarray(engine.read(source, start - lead, stop))
    state = process.at_rest(source.channels)
    key = None
    if heard is not None:
        key = np.ascontiguousarray(engine.read(heard, start - lead, stop))
    _, trace = process.run_traced(sound, state, key)
    own = trace[lead // TRACE_STEP :]
    edges = np.linspace(0, len(own), COLUMNS + 1).astype(int)
    return rounded(np.maximum.reduceat(own, np.minimum(edges[:-1], max(len(own) - 1, 0))), 2)


def transfer(stage: Stage) -> list[list[float]]:
    """What becomes of steady levels as ``[in dB, out dB]``; nothing where level does not matter."""
    levels = np.linspace(-60, 0, 61)
    bent = stage.transfer_db(levels)
    if bent is None:
        return []
    out = bent if stage.on else levels
    return [[round(float(a), 1), round(float(b), 2)] for a, b in zip(levels, out, strict=True)]
