"""Samples of a layer as they are cut, and how loud a layer plays under hits of every level."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.bench.drawing import rounded
from arkund.core.graph.nodes import Reader
from arkund.core.graph.struck import Row, Struck
from arkund.core.graph.toned import Toned
from arkund.core.kit.roles import piece_family
from arkund.core.measure.hits import ring_time_s
from arkund.core.measure.landmarks import fundamental_hz
from arkund.core.replace.choosing import gain_db
from arkund.core.replace.harvest import HEAD_S
from arkund.core.sheet.layers import AnyLayer, SampleLayer
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db

COLUMNS, DECAY_DB = 80, 20.0
BIN_DB, SPAN_DB = 2.0, (-60.0, 0.0)


def samples_of(
    sheet: Sheet, layer: AnyLayer, entry: Struck | Toned, rows: Sequence[Row], reader: Reader
) -> list[dict[str, Any]]:
    """Of each sample: number, waveform, peak, fundamental, time to fall by 20 dB, its cut in ms, and
    how many hits get it."""
    if not isinstance(layer, SampleLayer) or not isinstance(entry, Struck):
        return []
    family = piece_family(sheet.mics[layer.of].name.piece or "")
    out: list[dict[str, Any]] = []
    for cut in entry.samples:
        sound = reader.read(entry.source, cut.at, cut.at + cut.frames)
        sample = layer.samples[cut.number]
        columns = np.array_split(np.abs(sound), min(COLUMNS, len(sound)))
        out.append(
            {
                "number": cut.number + 1,
                "wave": rounded(np.array([c.max(initial=0.0) for c in columns]), 4),
                "peak_dbfs": round(amplitude_to_db(float(np.abs(sound).max(initial=1e-9))), 1),
                "hz": round(fundamental_hz(sound, sheet.rate, [HEAD_S], family), 1),
                "decay_ms": _decay_ms(sound, sheet.rate),
                "length_ms": round(1000 * (cut.frames / sheet.rate - HEAD_S), 1),
                "fade_in_ms": sample.fade_in_ms,
                "fade_out_ms": sample.fade_out_ms,
                "plays": sum(int(row.sound) == len(out) for row in rows),
            }
        )
    return out


def _decay_ms(sound: NDArray[np.float32], rate: int) -> int | None:
    """How long a sample takes to fall by `DECAY_DB`; None where it ends before."""
    alone = np.pad(sound, (0, rate))
    fallen_s = ring_time_s(alone, rate, [HEAD_S], DECAY_DB)
    return round(1000 * fallen_s) if fallen_s < len(sound) / rate - HEAD_S else None


def following_of(layer: AnyLayer, entry: Struck | Toned, reader: Reader) -> dict[str, Any]:
    """The drum's hits by level, and the peak at which the layer plays under each level, in dBFS."""
    levels = entry.peaks_db(reader)
    edges = np.arange(SPAN_DB[0], SPAN_DB[1] + BIN_DB / 2, BIN_DB)
    counts, _ = np.histogram(np.clip(levels, *SPAN_DB), edges)
    typical = float(np.median(levels)) if levels else SPAN_DB[0]
    curve = [gain_db(float(e), 0.0, typical, layer.following) + layer.fader_db for e in edges]
    return {
        "edges_db": rounded(edges, 1),
        "counts": [int(n) for n in counts],
        "curve_db": rounded(np.array(curve), 1),
        "typical_db": round(typical, 1),
    }
