"""Shape, dynamics: strokes of the loop before and after, the reduction, the average envelope."""

from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.bench.pictures.common import (
    Bars,
    bars_of,
    curve,
    gap_bars,
    loop_frames,
    note_marks,
    rounded,
    strokes_for,
)
from arkund.core.measure.levels import hit_peaks
from arkund.core.measure.strokes import mean_envelope_db
from arkund.core.mix.nodes import Node
from arkund.core.mix.processors import CompressorProcess
from arkund.core.mix.sheet import Compressor, Sheet
from arkund.core.shape.compressor import Settings, static_reduction_db
from arkund.core.units import amplitudes_to_db
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of

COLUMNS = 600
ENVELOPE_S = 0.3


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    stages = graph_of(sheet).mics[mic]
    engine = engine_for(sheet)
    start, stop = loop_frames(sheet, bars)
    before = engine.read(stages.equalised, start, stop)
    shaped = engine.read(stages.transient, start, stop)
    after = engine.read(stages.shaped, start, stop)
    hits = [h for h in strokes_for(sheet, mic) if start <= h.time_s * sheet.rate < stop]
    inside = [h.time_s - start / sheet.rate for h in hits]
    rate = sheet.rate
    reduction = reduction_over(sheet, stages.transient, sheet.mics[mic].compressor, start, stop)
    path = f"mics.{mic}.compressor"
    peaks = amplitudes_to_db(hit_peaks(shaped, rate, inside))
    envelopes = [mean_envelope_db(x, rate, inside, ENVELOPE_S, 150) for x in (before, after)]
    return {
        "span": [start, stop],
        "strokes": [
            {"t": h.time_s, "before": b, "after": a, "kind": h.kind}
            for h, b, a in zip(
                hits, rounded(amplitudes_to_db(hit_peaks(before, rate, inside)), 1),
                rounded(amplitudes_to_db(hit_peaks(after, rate, inside)), 1), strict=True,
            )
        ],
        "reduction": reduction,
        "most_db": round(max(reduction, default=0.0), 1),
        "envelope": {"seconds": ENVELOPE_S, "before": rounded(envelopes[0], 1),
                     "after": rounded(envelopes[1], 1)},
        "transfer": transfer(sheet.mics[mic].compressor),
        "rulers": squeeze_drawings(path, sheet, hits, peaks, envelopes[0]),
    }  # fmt: skip


def squeeze_drawings(
    path: str, sheet: Sheet, hits: list[Any], peaks: NDArray[np.float64],
    envelope: NDArray[np.float64],
) -> dict[str, Any]:  # fmt: skip
    """What stands in a compressor's rulers."""
    times = np.linspace(0.05, ENVELOPE_S * 1000, len(envelope))
    return {
        f"{path}.threshold_db": {"bars": bars_of(peaks, -60, 0, 40, "own")},
        f"{path}.attack_ms": {"areas": [curve(times, envelope - envelope.max(), -40, 0, "own")]},
        f"{path}.release_ms": {"bars": gap_bars(hits), "marks": note_marks(sheet)},
    }


def reduction_over(
    sheet: Sheet, source: Node, settings: Compressor, start: int, stop: int
) -> list[float]:
    """Gain reduction in dB over a span in `COLUMNS` steps, the largest of each."""
    process = CompressorProcess(settings, sheet.rate)
    if process.is_transparent:
        return [0.0] * COLUMNS
    lead = min(process.memory, start)
    sound = engine_for(sheet).read(source, start - lead, stop)
    _, trace = process.run_traced(np.ascontiguousarray(sound), process.at_rest())
    own = trace[lead // 64 :]
    edges = np.linspace(0, len(own), COLUMNS + 1).astype(int)
    return rounded(np.maximum.reduceat(own, np.minimum(edges[:-1], max(len(own) - 1, 0))), 2)


def transfer(settings: Compressor) -> list[list[float]]:
    """The static curve as ``[in dB, out dB]``."""
    levels = np.linspace(-60, 0, 61)
    s = Settings(settings.threshold_db, settings.ratio, settings.knee_db, 1, 1)
    out = levels - (static_reduction_db(levels, s) if settings.on else 0)
    return [[round(float(a), 1), round(float(b), 2)] for a, b in zip(levels, out, strict=True)]
