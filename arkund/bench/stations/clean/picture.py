"""Clean: the mic over the loop with what the gate leaves, how the drum rings, what the gate does."""

from collections.abc import Sequence
from itertools import zip_longest
from typing import Any

import numpy as np

from arkund.bench.drawing import (
    Bars,
    bars_of,
    curve,
    gap_bars,
    loop_frames,
    note_marks,
    other_hits,
    own_hits,
    rounded,
    shown_hits,
)
from arkund.core.clean.keying import KeyFilter
from arkund.core.clean.proposal import separate, threshold_db
from arkund.core.graph.nodes import Gated
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, parse_mic_name
from arkund.core.measure.hits import RING_BANDS_HZ
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.treating import Clean
from arkund.songs.facts import hits_for, hits_of
from arkund.songs.gates import (
    gate_filter,
    gate_key,
    gate_proposal,
    gate_report,
    hit_envelope_db,
    ring_by_band,
)
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of

RING_S = 1.6


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    settings = sheet.mics[mic].clean
    hits, own = hits_of(sheet), own_hits(sheet, mic)
    start, stop = loop_frames(sheet, bars)
    onsets = [h.time_s for h in hits_for(sheet, mic)]
    ring = hit_envelope_db(sheet, mic, onsets, RING_S, 160)
    ring = ring - ring.max()
    report = gate_report(sheet, mic)
    return {
        "span": [start, stop],
        "hits": [h for h in shown_hits(sheet, start, stop)],
        "piece": parse_mic_name(mic).piece or "",
        "openings": _openings(sheet, mic, start, stop),
        "by_hand": settings.on and settings.opens_on == "hand",
        "regions": _regions(settings, start, stop),
        "threshold_db": settings.threshold_db if settings.opens_on == "threshold" else None,
        "range_db": settings.range_db,
        "rings": _rings(sheet, mic) if own else [],
        "ring": {
            "seconds": RING_S,
            "own": rounded(ring, 1),
            "gated": _gated_ring(sheet, mic, ring),
        },
        "report": report,
        "false_pieces": [
            [label(name), count] for name, count in report.get("false_pieces", {}).items()
        ],
        "own": len(own),
        "others": len(other_hits(sheet, mic)),
        "rulers": _rulers(sheet, mic, hits, own, onsets, ring),
    }


def _rulers(
    sheet: Sheet,
    mic: str,
    hits: Sequence[Hit],
    own: list[Hit],
    onsets: list[float],
    ring: np.ndarray[Any, Any],
) -> dict[str, Any]:
    """What stands beside the gate's rulers: bleed and hits, how the drum rings and rises, the gaps."""
    path = f"mics.{mic}.clean"
    # The threshold stands among what it hears.
    key = gate_key(sheet, mic)
    piece = parse_mic_name(mic).piece or ""
    found = separate(key, sheet.rate, piece, hits, sheet.mics[mic].delay_samples)
    proposal = gate_proposal(sheet, mic)
    own_db = np.concatenate([found.hits_db, found.ghosts_db])
    times = np.linspace(0, RING_S * 1000, len(ring))
    rise = hit_envelope_db(sheet, mic, onsets, 0.05, 120)
    return {
        f"{path}.threshold_db": {
            "bars": bars_of(found.bleed_db, -60, 0, 40, "bleed")
            + bars_of(own_db, -60, 0, 40, "own"),
            "proposed": threshold_db(found) if own else proposal.threshold_db,
            "note": f"{found.margin_db:+.1f} dB between bleed and hits".replace("-", "−"),
        },
        f"{path}.hold_ms": {
            "areas": [curve(np.maximum(times, 5), ring, -50, 0, "own")],
            "proposed": proposal.hold_ms,
        },
        f"{path}.release_ms": {
            "bars": gap_bars(own),
            "marks": note_marks(sheet),
            "proposed": proposal.release_ms,
        },
        f"{path}.range_db": {"zones": [[-20, -12]], "proposed": proposal.range_db},
        **_key_rulers(path, gate_filter(sheet, mic)),
        f"{path}.attack_ms": {
            "areas": [curve(np.linspace(0.1, 50, len(rise)), rise - rise.max(), -40, 0, "own")]
        },
    }


def _openings(sheet: Sheet, mic: str, start: int, stop: int) -> list[list[float]]:
    """Where the gate stands open (over −3 dB) within the span, as sample pairs."""
    node = graph_of(sheet).mics[mic].clean
    if not isinstance(node, Gated):
        return []
    shape = node.shape(engine_for(sheet))
    at = np.linspace(start, stop, 3000)
    is_open = np.concatenate([[False], shape.at(at) > -3, [False]])
    edges = np.flatnonzero(np.diff(is_open.astype(int)))
    return [
        [round(float(at[min(a, 2999)])), round(float(at[min(b, 2999)]))]
        for a, b in zip(edges[::2], edges[1::2], strict=True)
    ]


def _key_rulers(path: str, band: KeyFilter | None) -> dict[str, Any]:
    """Where the key's filters would stand; nothing where they would part no more than none does."""
    if band is None:
        return {}
    note = (
        f"hits {band.margin_db:+.1f} dB over bleed in this band, {band.plain_db:+.1f} without "
        "a filter"
    ).replace("-", "−")
    return {
        f"{path}.key.high_pass_hz": {"proposed": band.low_hz, "note": note},
        f"{path}.key.low_pass_hz": {"proposed": band.high_hz},
    }


def _regions(settings: Clean, start: int, stop: int) -> list[dict[str, Any]]:
    """Regions that are heard in the span, with the fades that are: none where two touch, but one
    from the gain of the first."""
    ordered = sorted(settings.regions.items(), key=lambda one: one[1].at)
    out: list[dict[str, Any]] = []
    before: tuple[int, float] = (-1, 0.0)
    for (name, r), following in zip_longest(ordered, ordered[1:]):
        end = r.at + r.frames
        touches = following is not None and following[1].at == end
        out.append(
            {
                "id": name,
                "at": r.at,
                "stop": end,
                "gain_db": r.gain_db,
                "by_hand": r.by_hand,
                "fade_in": r.fade_in,
                "fade_out": 0 if touches else r.fade_out,
                "from_db": before[1] if before[0] == r.at else None,
                "touches": touches,
            }
        )
        before = (end, r.gain_db)
    return [r for r in out if r["at"] < stop and start < r["stop"]]


def _rings(sheet: Sheet, mic: str) -> list[list[str]]:
    """Seconds to −20 and to −60 dB, of the whole drum and by band."""
    names = ("whole", *(f"{_hz(low)}–{_hz(high)} Hz" for low, high in RING_BANDS_HZ))
    rows = zip(names, ring_by_band(sheet, mic).tolist(), strict=True)
    return [[name, f"{t20:.2f}", f"{t60:.2f}"] for name, (t20, t60) in rows]


def _hz(value: float) -> str:
    return f"{value / 1000:g}k" if value >= 1000 else f"{value:g}"


def _gated_ring(sheet: Sheet, mic: str, ring: np.ndarray[Any, Any]) -> list[float] | None:
    """How the ring ends with the gate in."""
    c = sheet.mics[mic].clean
    if not c.on or c.opens_on == "hand" or c.shuts == "ring":
        return None
    times = np.linspace(0, RING_S * 1000, len(ring))
    over = np.clip((times - c.hold_ms) / c.release_ms, 0, 1)
    return rounded(ring + over * c.range_db, 1)
