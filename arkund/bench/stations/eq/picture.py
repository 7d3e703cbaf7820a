"""Shape, EQ: the drum's spectrum before and after, bleed behind, landmarks in words."""

from typing import Any

import numpy as np
import scipy

from arkund.bench.drawing import Bars, curve, loop_frames, rounded, whole
from arkund.bench.in_hand import InHand
from arkund.bench.stations.dynamics.picture import small_hits
from arkund.bench.stations.eq.moving import Moving, moving_of
from arkund.core.advise.finding import spoken
from arkund.core.advise.pitch import drum_line
from arkund.core.graph.graph import Chained
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.hits import HitSpectrum, hit_spectrum
from arkund.core.measure.landmarks import Line
from arkund.core.process.band import Band
from arkund.core.process.equaliser import MOST_BANDS, Equaliser, equaliser_sections
from arkund.core.process.stage import Stage
from arkund.core.process.values import described
from arkund.core.shape.biquad import response_db
from arkund.core.sheet.channels import stage_path
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, hz_to_note
from arkund.songs.facts import hits_of
from arkund.songs.rendering import engine_for, graph_of
from arkund.songs.studies import study_of
from arkund.songs.wording import value_words


def picture(sheet: Sheet, hand: InHand, stage: Stage | None, bars: Bars) -> dict[str, Any]:
    """What the page shows of a channel's EQ; of the chain alone without one."""
    chained = graph_of(sheet).chain(hand.name)
    start, stop = loop_frames(sheet, bars)
    hits = hand.hits(sheet)
    inside = [
        h.time_s - start / sheet.rate
        for h in hits
        if start <= h.time_s * sheet.rate < stop and h.kind != "ghost"
    ]
    out = {"chain": small_hits(sheet, chained, start, stop, inside)}
    if not isinstance(stage, Equaliser):
        return out | {"rulers": {}}
    over = _over(sheet, chained, stage, stage_path(hand.path, stage), (start, stop))
    return out | {"over": over} | _spectrum(sheet, hand, chained, stage, hits)


def _spectrum(
    sheet: Sheet, hand: InHand, chained: Chained, eq: Equaliser, hits: list[Hit]
) -> dict[str, Any]:
    """Spectrum of the hits before and after an EQ."""
    sound = whole(sheet, chained.before(eq.id))
    mono = sound if sound.ndim == 1 else np.ascontiguousarray(sound.mean(axis=1))
    ids = {h.id for h in hits}
    found = hit_spectrum(
        mono,
        sheet.rate,
        [h.time_s for h in hits],
        [h.time_s for h in hits_of(sheet) if h.id not in ids],
    )
    gain = response_db(equaliser_sections(eq, sheet.rate), found.hz, sheet.rate) + eq.output_db
    if not eq.on:
        gain = np.zeros_like(gain)
    top = float(found.hits_db.max())
    path = stage_path(hand.path, eq)
    moving = moving_of(sheet, chained, eq, path, hits, found) if eq.on else Moving()
    if moving.gain_db is not None:
        gain = moving.gain_db
    areas = [
        curve(found.hz, found.bleed_db, top - 60, top, "bleed"),
        curve(found.hz, found.hits_db, top - 60, top, "own"),
    ]
    ruled = [
        f"{path}.high_pass.frequency_hz",
        f"{path}.low_pass.frequency_hz",
        *(f"{path}.bands.{b.id}.frequency_hz" for b in eq.bands),
    ]
    return {
        "hz": rounded(found.hz, 1),
        "before": rounded(found.hits_db - top, 2),
        "after": rounded(found.hits_db + gain - top, 2),
        "bleed": rounded(found.bleed_db - top, 2),
        "gain": rounded(gain, 2),
        "flags": _flags(eq),
        "nodes": _nodes(path, eq),
        "add": _place_for_one_more(path, eq),
        "invites": "" if any(b.on for b in eq.bands) else "double-click to add a band",
        "landmarks": landmarks(found, _pitch(sheet, hand)),
        "reach": None
        if moving.reach_db is None
        else rounded(found.hits_db + moving.reach_db - top, 2),
        "moved": moving.said,
        "rulers": {**{name: {"areas": areas} for name in ruled}, **moving.rulers},
    }


ROOM_DB = 0.5


def _over(
    sheet: Sheet, chained: Chained, eq: Equaliser, path: str, span: tuple[int, int]
) -> dict[str, Any] | None:
    """What is said and offered where the sound behind an EQ peaks over full scale in the loop and the one before it
    does not: processors hold it, a file would not."""
    engine = engine_for(sheet)
    before, after = (
        amplitude_to_db(float(np.abs(engine.read(node, *span)).max(initial=0.0)))
        for node in (chained.before(eq.id), chained.tap(eq.id))
    )
    if after <= 0 or before > 0:
        return None
    trim = -round(after + ROOM_DB, 1)
    output = round(max(eq.output_db + trim, described(Equaliser)["output_db"].low or trim), 1)
    return {
        "said": spoken(f"Behind this EQ the loudest hit of these bars peaks at {after:+.1f} dBFS."),
        "words": spoken(f"trim by {trim:.1f} dB"),
        "patch": {f"{path}.output_db": output},
    }


def _pitch(sheet: Sheet, hand: InHand) -> Line:
    """The fundamental of a mic's drum as every finding has it; 0 Hz of what is no drum's."""
    piece = parse_mic_name(hand.name).piece if hand.is_mic else None
    return drum_line(study_of(sheet), piece) if piece else Line(0.0, 0.0)


def landmarks(found: HitSpectrum, pitch: Line) -> list[dict[str, Any]]:
    """The fundamental and up to two peaks above it that stand out, as places with names."""
    db = found.hits_db
    low = np.flatnonzero(found.hz < 320)
    if len(low) == 0 or db.max() < -110:
        return []
    base = int(low[np.argmax(db[low])])
    if pitch.hz:
        base = int(np.argmin(np.abs(found.hz - pitch.hz)))
    base_hz = pitch.hz or float(found.hz[base])
    marks = [
        {
            "hz": round(base_hz, 1),
            # Where another line is as strong, the ear has the last word.
            "name": "fundamental" if pitch.is_clear or not pitch.hz else "fundamental?",
            "note": hz_to_note(base_hz),
        }
    ]
    trend = scipy.signal.savgol_filter(db, 41, 2)
    peaks, _ = scipy.signal.find_peaks(db - trend, prominence=3)
    above = [p for p in peaks if found.hz[p] > 1.5 * found.hz[base] and found.hz[p] < 6000]
    for p in sorted(above, key=lambda p: trend[p] - db[p])[:2]:
        hz = float(found.hz[p])
        marks.append({"hz": round(hz, 1), "name": "stands out", "note": hz_to_note(hz)})
    return marks


def _flags(eq: Equaliser) -> list[dict[str, Any]]:
    """What is on, as chart notation at its frequency."""
    out: list[dict[str, Any]] = []
    for name, part in (("high-pass", eq.high_pass), ("low-pass", eq.low_pass)):
        if part.on:
            slope = f"{part.slope_db_oct} dB/oct"
            text = f"{name} · {part.frequency_hz:.0f} Hz · {slope}"
            out.append({"hz": part.frequency_hz, "text": text})
    return out + [{"hz": b.frequency_hz, "text": _said(b)} for b in eq.bands if b.on]


def _said(band: Band) -> str:
    """A band in words."""
    width = "broad" if band.q < 0.9 else "narrow" if band.q > 3 else "medium"
    kind = width if band.kind == "bell" else band.kind.replace("_", " ")
    if band.kind == "notch":
        return f"{band.frequency_hz:.0f} Hz · notch"
    said = f"{value_words(band.gain_db, 'dB')} · {band.frequency_hz:.0f} Hz · {kind}"
    return f"{said} · moves by {value_words(band.range_db, 'dB')}" if band.moves else said


ENDS = {"hz": "frequency_hz", "gain": "gain_db", "q": "q"}
"""The values of a band that a hand on its node moves."""


def _nodes(path: str, eq: Equaliser) -> list[dict[str, Any]]:
    """The bands that are on as nodes on the curve: their values, how far these go, and their words."""
    ends = {name: described(Band)[field].ends for name, field in ENDS.items()}
    return [
        {
            "id": band.id,
            "number": number,
            "path": f"{path}.bands.{band.id}",
            "within": ends,
            "said": f"band {number}: {_said(band)}",
            **{name: getattr(band, field) for name, field in ENDS.items()},
        }
        for number, band in enumerate(eq.bands, start=1)
        if band.on
    ]


ADDED_WITHIN_DB = 6.0
"""A band that is put on the curve by a click lifts or lowers it by this at most."""


def _place_for_one_more(path: str, eq: Equaliser) -> dict[str, Any] | None:
    """The band that a double click puts in: one that is out, else a new one; None where there is no room."""
    free = next((b.id for b in eq.bands if not b.on and not b.gain_db), None)
    if free is None and len(eq.bands) >= MOST_BANDS:
        return None
    known = {b.id for b in eq.bands}
    name = free or next(f"b{n}" for n in range(1, 100) if f"b{n}" not in known)
    at = f"{path}.bands.{name}"
    return {"id": name, "path": at, "is_new": free is None, "most_db": ADDED_WITHIN_DB}
