"""Shape, EQ: the drum's spectrum before and after, bleed behind, landmarks in words."""

from typing import Any

import numpy as np
import scipy

from arkund.bench.pictures.common import (
    Bars,
    curve,
    other_hits,
    rounded,
    strokes_for,
    whole,
)
from arkund.core.measure.strokes import StrokeSpectrum, stroke_spectrum
from arkund.core.mix.processors import equaliser_sections
from arkund.core.mix.sheet import Sheet
from arkund.core.shape.biquad import response_db
from arkund.core.units import hz_to_note
from arkund.songs.models import Song
from arkund.songs.rendering import graph_of


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    eq = sheet.mics[mic].eq
    found = stroke_spectrum(
        whole(sheet, graph_of(sheet).mics[mic].clean), sheet.rate,
        [h.time_s for h in strokes_for(sheet, mic)], [h.time_s for h in other_hits(sheet, mic)],
    )  # fmt: skip
    gain = response_db(equaliser_sections(eq, sheet.rate), found.hz, sheet.rate) + eq.output_db
    if not eq.on:
        gain = np.zeros_like(gain)
    top = float(found.strokes_db.max())
    path = f"mics.{mic}.eq"
    areas = [
        curve(found.hz, found.bleed_db, top - 60, top, "bleed"),
        curve(found.hz, found.strokes_db, top - 60, top, "own"),
    ]
    ruled = [f"{path}.high_pass.frequency_hz", f"{path}.low_pass.frequency_hz",
             *(f"{path}.bands.{n}.frequency_hz" for n in range(4))]  # fmt: skip
    return {
        "hz": rounded(found.hz, 1),
        "before": rounded(found.strokes_db - top, 2),
        "after": rounded(found.strokes_db + gain - top, 2),
        "bleed": rounded(found.bleed_db - top, 2),
        "gain": rounded(gain, 2),
        "flags": _flags(sheet, mic),
        "landmarks": landmarks(found),
        "rulers": {name: {"areas": areas} for name in ruled},
    }


def landmarks(found: StrokeSpectrum) -> list[dict[str, Any]]:
    """The fundamental and up to two peaks above it that stand out, as places with names."""
    db = found.strokes_db
    low = np.flatnonzero(found.hz < 320)
    if len(low) == 0 or db.max() < -110:
        return []
    base = int(low[np.argmax(db[low])])
    marks = [{"hz": round(float(found.hz[base]), 1), "name": "fundamental",
              "note": hz_to_note(float(found.hz[base]))}]  # fmt: skip
    trend = scipy.signal.savgol_filter(db, 41, 2)
    peaks, _ = scipy.signal.find_peaks(db - trend, prominence=3)
    above = [p for p in peaks if found.hz[p] > 1.5 * found.hz[base] and found.hz[p] < 6000]
    for p in sorted(above, key=lambda p: trend[p] - db[p])[:2]:
        hz = float(found.hz[p])
        marks.append({"hz": round(hz, 1), "name": "stands out", "note": hz_to_note(hz)})
    return marks


def _flags(sheet: Sheet, mic: str) -> list[dict[str, Any]]:
    """What is on, as chart notation at its frequency."""
    eq = sheet.mics[mic].eq
    out = []
    for name, part in (("high-pass", eq.high_pass), ("low-pass", eq.low_pass)):
        if part.on:
            out.append({"hz": part.frequency_hz, "gain": 0, "band": None,
                        "text": f"{name} · {part.frequency_hz:.0f} Hz · {part.slope_db_oct} dB/oct"})  # fmt: skip
    for number, band in enumerate(eq.bands):
        if band.on:
            width = "broad" if band.q < 0.9 else "narrow" if band.q > 3 else "medium"
            kind = {"bell": width, "low_shelf": "low shelf", "high_shelf": "high shelf"}[band.kind]
            text = f"{band.gain_db:+.1f} dB · {band.frequency_hz:.0f} Hz · {kind}"
            out.append({"hz": band.frequency_hz, "gain": band.gain_db, "band": number,
                        "text": text.replace("-", "−")})  # fmt: skip
    return out
