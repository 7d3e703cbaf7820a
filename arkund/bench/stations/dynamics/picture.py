"""Shape, dynamics: hits of the loop before and after a stage, what it takes off, the average
hit along the chain."""

from typing import Any

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
from arkund.core.process.compressor import Compressor, CompressorProcess
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import Audio, Stage
from arkund.core.shape.compressor import TRACE_STEP, static_reduction_db
from arkund.core.shape.saturation import bent
from arkund.core.shape.sides import louder_side
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, amplitudes_to_db
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
        "said": _said(stage, peaks, reduction),
        "envelope": {
            "seconds": ENVELOPE_S,
            "before": rounded(envelopes[0], 1),
            "after": rounded(envelopes[1], 1),
        },
        "transfer": transfer(stage),
        "rulers": drawings(
            stage_path(hand.path, stage), stage, sheet, hits, before, peaks, envelopes[0]
        ),
    }


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
    """What stands in a stage's rulers."""
    times = np.linspace(0.05, ENVELOPE_S * 1000, len(envelope))
    hit = {"areas": [curve(times, envelope - envelope.max(initial=-200.0), -40, 0, "own")]}
    gaps = {"bars": gap_bars(hits), "marks": note_marks(sheet)}
    if isinstance(stage, Compressor):
        return {
            f"{path}.threshold_db": {"bars": bars_of(peaks, -60, 0, 40, "own")},
            f"{path}.attack_ms": hit,
            f"{path}.release_ms": gaps,
        }
    if isinstance(stage, Limiter):
        over = int(np.sum(peaks > stage.ceiling_db))
        top = true_peak_dbtp(before) if len(before) else -200.0
        note = f"{over} of {len(peaks)} hits reach it, the loudest {top:+.1f} dBTP".replace(
            "-", "−"
        )
        return {
            f"{path}.ceiling_db": {"bars": bars_of(peaks, -24, 0, 40, "own"), "note": note},
            f"{path}.release_ms": gaps,
        }
    if isinstance(stage, Saturation):
        return {
            f"{path}.drive_db": {
                "note": _bends(stage, peaks),
                "proposed": _begins_to_bend(stage, peaks),
            }
        }
    return {}


def _begins_to_bend(stage: Saturation, peaks: NDArray[np.float64]) -> float | None:
    """The least drive at which one hit in ten bends by 1 dB; None where none does."""
    for drive in np.arange(0, 24.5, 0.5):
        tried = stage.model_copy(update={"drive_db": float(drive)})
        if len(peaks) and np.mean(_bent_by(tried, peaks) >= 1) >= 0.1:
            return float(drive)
    return None


def _bends(stage: Saturation, peaks: NDArray[np.float64]) -> str:
    """How many hits' peaks bend, and by how much the typical one."""
    if not len(peaks):
        return "no hit in these bars"
    lost = _bent_by(stage, peaks)
    return (
        f"{np.mean(lost >= 1):.0%} of hits bend by 1 dB or more, the typical one by "
        f"{np.median(lost):.1f} dB"
    )


def _bent_by(stage: Saturation, peaks: NDArray[np.float64]) -> NDArray[np.float64]:
    """By how many dB more than soft sound each peak comes out lower."""
    levels = 10 ** (peaks / 20)
    quiet = 1e-4
    small = amplitude_to_db(float(bent(np.array([quiet]), stage.setup)[0]) / quiet)
    then = amplitudes_to_db(np.abs(bent(levels, stage.setup)))
    return peaks + small - then


def _said(stage: Stage, peaks: NDArray[np.float64], reduction: list[float]) -> str:
    """What a stage does to the loop's hits, in a few words."""
    if not stage.on:
        return "bypassed"
    if isinstance(stage, Saturation):
        return _bends(stage, peaks)
    if isinstance(stage, Compressor | Limiter):
        most = max(reduction, default=0.0)
        return f"at most −{most:.1f} dB" if most else "no reduction"
    return ""


def reduction_over(
    sheet: Sheet, source: Node, stage: Stage, start: int, stop: int, heard: Node | None = None
) -> list[float]:
    """Gain reduction in dB over a span in `COLUMNS` steps, the largest of each; none of a stage
    that reduces nothing. ``heard`` is what its detector hears, where that is something else."""
    if not isinstance(stage, Compressor | Limiter) or stage.is_transparent:
        return [0.0] * COLUMNS
    process = stage.process(sheet.rate)
    lead = min(process.memory, start)
    engine = engine_for(sheet)
    sound = np.ascontiguousarray(engine.read(source, start - lead, stop))
    state = process.at_rest(source.channels)
    if heard is not None and isinstance(process, CompressorProcess):
        key = np.ascontiguousarray(engine.read(heard, start - lead, stop))
        _, trace = process.run_traced(sound, state, key)
    else:
        _, trace = process.run_traced(sound, state)
    own = trace[lead // TRACE_STEP :]
    edges = np.linspace(0, len(own), COLUMNS + 1).astype(int)
    return rounded(np.maximum.reduceat(own, np.minimum(edges[:-1], max(len(own) - 1, 0))), 2)


def transfer(stage: Stage) -> list[list[float]]:
    """What becomes of steady levels as ``[in dB, out dB]``; nothing where level does not matter."""
    levels = np.linspace(-60, 0, 61)
    if isinstance(stage, Compressor):
        out = levels - (static_reduction_db(levels, stage.setup) if stage.on else 0)
    elif isinstance(stage, Limiter):
        out = np.minimum(levels, stage.ceiling_db) if stage.on else levels
    elif isinstance(stage, Saturation):
        out = (
            amplitudes_to_db(np.abs(bent(10 ** (levels / 20), stage.setup))) if stage.on else levels
        )
    else:
        return []
    return [[round(float(a), 1), round(float(b), 2)] for a, b in zip(levels, out, strict=True)]
