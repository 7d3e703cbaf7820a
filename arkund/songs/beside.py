"""The drums of a stored song against its bed and its reference, in figures and sentences."""

from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.finding import spoken
from arkund.core.errors import ArkundError
from arkund.core.measure.in_the_song import (
    KICK_HZ,
    KICK_S,
    OCTAVES_HZ,
    SNARE_HZ,
    SNARE_S,
    Covered,
    apart_from_db,
    covered,
    over_bed_lu,
)
from arkund.core.sheet.sheet import Sheet
from arkund.songs.facts import hits_of
from arkund.songs.rendering import engine_for, graph_of, grid_of, render_span

BANDS = {"kick": (KICK_HZ, KICK_S), "snare": (SNARE_HZ, SNARE_S)}
MUCH, FAR_DB = 0.25, 4.0
"""A drum that the bed covers at so many of its hits is worth a word; so is an octave so far from the reference."""


def described(sheet: Sheet) -> dict[str, Any]:
    """Loudness of the drums over the bed, in the whole song and by section; what it covers of kick and snare; octaves
    against the reference; and what of it is worth a word. Raises `ArkundError` without bed and reference."""
    beside = graph_of(sheet).beside
    if not beside:
        raise ArkundError("This song has no bed and no reference. Bring one in at Load-in.")
    drums = _whole(sheet, "output")
    out: dict[str, Any] = {"said": []}
    if "bed" in beside:
        bed = _whole(sheet, "bed")
        out["drums_over_bed_lu"] = round(over_bed_lu(drums, bed, sheet.rate), 1)
        out["sections"] = _by_section(sheet, drums, bed)
        for piece, (band, length) in BANDS.items():
            times = [h.time_s for h in hits_of(sheet) if h.piece == piece and h.kind != "ghost"]
            found = covered(drums, bed, sheet.rate, times, band, length)
            if found is not None:
                out[piece] = {k: round(v, 2) for k, v in asdict(found).items()}
                out["said"] += _covered_words(piece, found, band)
    if "reference" in beside:
        whole = _whole(sheet, "song" if "bed" in beside else "output")
        apart = apart_from_db(whole, _whole(sheet, "reference"), sheet.rate)
        out["reference"] = [
            {"hz": hz, "apart_db": round(float(db), 1)}
            for hz, db in zip(OCTAVES_HZ, apart, strict=True)
        ]
        out["said"] += _reference_words(apart)
    return out


def _whole(sheet: Sheet, node: str) -> NDArray[np.float32]:
    """``(frames, 2)`` of what stands beside the drums at its level, or of a public node."""
    beside = graph_of(sheet).beside
    if node in beside:
        return engine_for(sheet).read(beside[node], 0, sheet.frames)
    return render_span(sheet, node, "now", 0, sheet.frames)


def _by_section(
    sheet: Sheet, drums: NDArray[np.float32], bed: NDArray[np.float32]
) -> list[dict[str, Any]]:
    rows = []
    for one in sheet.sections:
        last = one.start_bar + one.bars - 1
        span = slice(*grid_of(sheet).frames_of_bars(one.start_bar, last, sheet.rate))
        if len(drums[span]) < sheet.rate // 2:
            continue
        over = over_bed_lu(drums[span], bed[span], sheet.rate)
        rows.append(
            {
                "name": one.name,
                "bars": f"{one.start_bar}–{last}",
                "drums_over_bed_lu": round(over, 1),
            }
        )
    return rows


def _covered_words(piece: str, found: Covered, band: tuple[float, float]) -> list[str]:
    if found.share < MUCH:
        return []
    low, high = (f"{hz / 1000:g} kHz" if hz >= 1000 else f"{hz:.0f} Hz" for hz in band)
    return [
        spoken(
            f"The bed is louder than the {piece} from {low} to {high} at {found.share:.0%} of its hits, there by "
            f"{found.covered_by_db:.1f} dB. What plays there could duck under the {piece} where the bed is mixed; or "
            f"the {piece} comes up."
        )
    ]


def _reference_words(apart: NDArray[np.float64]) -> list[str]:
    return [
        spoken(
            f"Around {hz:g} Hz the song has {abs(db):.1f} dB {'more' if db > 0 else 'less'} than the reference, at "
            "equal loudness."
        )
        for hz, db in zip(OCTAVES_HZ, apart, strict=True)
        if abs(db) >= FAR_DB
    ]
