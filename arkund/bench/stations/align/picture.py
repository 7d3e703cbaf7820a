"""Align: one typical hit in all mics of a piece at sample zoom, the lag curve, the pairs."""

from dataclasses import asdict
from typing import Any

import numpy as np

from arkund.bench.drawing import Bars, rounded
from arkund.core.align.pairs import Pair, align_pair
from arkund.core.kit.roles import close_mics, label, parse_mic_name
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import samples_to_cm, samples_to_ms
from arkund.songs.aligning import room_question, sums_of_pair, wanted_delay
from arkund.songs.analysed import analysis_of
from arkund.songs.facts import hits_for, hits_of
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars) -> dict[str, Any]:
    pairs = [asdict(p) for p in analysis_of(sheet.take).pairs]
    rate = sheet.rate
    chosen = _pair_of(pairs, mic)
    mine = [p for p in pairs if mic in (p["mic"], p["reference"])]
    rows = [
        {
            **p,
            "mic_label": label(p["mic"]),
            "reference_label": label(p["reference"]),
            "ms": round(samples_to_ms(p["delay_samples"], rate), 2),
            "cm": round(samples_to_cm(p["delay_samples"], rate)),
            "chosen": p is chosen,
            "left_samples": round(_left(p, sheet), 1),
            "standing": _standing(p, sheet),
        }
        for p in mine or pairs
    ]
    out: dict[str, Any] = {"pairs": rows, "rulers": {}, "lines": [], "curve": None}
    out["matrix"] = _matrix(pairs, sheet)
    out["room"] = room_question(song, mic)
    names = _shown(sheet, mic, chosen)
    hits = hits_for(sheet, mic)
    if hits and names:
        out |= _lines(sheet, names, hits, mic)
    if chosen:
        out["curve"] = _curve(sheet, chosen)
        # The school's one solution; where it leaves the mic, what closes the gap of this pair.
        solved = wanted_delay(song, mic)
        wanted = _wanted_delay(chosen, mic, sheet) if solved is None else solved
        out["rulers"][f"mics.{mic}.delay_samples"] = {"proposed": wanted}
        out["sums"] = sums_of_pair(sheet, Pair(**chosen))
        out["chosen"] = {
            "mic": chosen["mic"],
            "reference": chosen["reference"],
            "polarity": chosen["polarity"],
            "sure": chosen["sure"],
        }
    return out


def _matrix(pairs: list[dict[str, Any]], sheet: Sheet) -> dict[str, Any]:
    """Every two mics that hear a piece together: of several pieces the pair that is surest."""
    best: dict[tuple[str, str], dict[str, Any]] = {}
    for p in sorted(pairs, key=lambda p: (p["sure"], p["confidence"])):
        best[p["mic"], p["reference"]] = p
    order = [m for m in mic_order(sheet) if any(m in two for two in best)]
    cells = []
    for (mic, reference), p in best.items():
        first, last = sorted((mic, reference), key=order.index)
        later = _left(p, sheet) if last == mic else -_left(p, sheet)
        same = _standing(p, sheet) != "opposite"
        cells.append(
            {
                "row": order.index(last),
                "column": order.index(first),
                "mic": mic,
                "later": round(later),
                "sure": p["sure"],
                "piece": label(p["piece"]),
                "same": same,
            }
        )
    return {"mics": [{"mic": m, "label": label(m)} for m in order], "cells": cells}


def _pair_of(pairs: list[dict[str, Any]], mic: str) -> dict[str, Any] | None:
    """The pair in which the mic is measured against its piece's first mic, else any of it."""
    own = [p for p in pairs if p["mic"] == mic]
    close = [p for p in own if not p["reference"].startswith("overhead")]
    return next(iter(close or own or [p for p in pairs if p["reference"] == mic]), None)


def _left(pair: dict[str, Any], sheet: Sheet) -> float:
    """What is left of the measured delay with the sheet's delays in place."""
    mics = sheet.mics
    return float(
        pair["delay_samples"]
        + mics[pair["mic"]].delay_samples
        - mics[pair["reference"]].delay_samples
    )


def _standing(pair: dict[str, Any], sheet: Sheet) -> str:
    """How the two stand to each other now: *same* as recorded, *fixed* by the sheet, or *opposite*."""
    mics = sheet.mics
    if pair["polarity"] * mics[pair["mic"]].polarity * mics[pair["reference"]].polarity < 0:
        return "opposite"
    return "same" if pair["polarity"] > 0 else "fixed"


def _wanted_delay(pair: dict[str, Any], mic: str, sheet: Sheet) -> float:
    """Delay of ``mic`` that closes the gap to the other mic of the pair."""
    left = _left(pair, sheet)
    now = sheet.mics[mic].delay_samples
    return round(now - left if pair["mic"] == mic else now + left, 1)


def _shown(sheet: Sheet, mic: str, pair: dict[str, Any] | None) -> list[str]:
    piece = parse_mic_name(mic).piece
    names = close_mics(sheet.mics, piece) if piece else [mic]
    for name in (pair["mic"], pair["reference"]) if pair else ():
        if name not in names:
            names.append(name)
    return names[:5]


def _lines(sheet: Sheet, names: list[str], hits: list[Any], mic: str) -> dict[str, Any]:
    """Median-level hit in each mic, before and after the sheet's delay and polarity."""
    listed = hits_of(sheet)
    alone = [h for h in hits if not any(0 < abs(o.time_s - h.time_s) < 0.02 for o in listed)]
    loud = sorted(alone or hits, key=lambda h: h.level_db)
    hit = loud[len(loud) * 3 // 4]
    rate, engine, graph = sheet.rate, engine_for(sheet), graph_of(sheet)
    at = round(hit.time_s * rate)
    before, after = round(0.0015 * rate), round(0.0075 * rate)
    lines = []
    for name in names:
        raw = engine.read(graph.mics[name].source, at - before, at + after)
        now = engine.read(graph.mics[name].placed, at - before, at + after)
        top = float(np.abs(raw).max()) or 1.0
        lines.append(
            {
                "mic": name,
                "label": label(name),
                "piece": parse_mic_name(name).piece or "",
                "chosen": name == mic,
                "before": rounded(raw / top, 3),
                "after": rounded(now / (float(np.abs(now).max()) or 1.0), 3),
            }
        )
    return {"lines": lines, "span_ms": [-1.5, 7.5], "hit_s": hit.time_s}


def _curve(sheet: Sheet, pair: dict[str, Any]) -> dict[str, Any] | None:
    piece = pair["piece"]
    listed = hits_of(sheet)
    engine, graph = engine_for(sheet), graph_of(sheet)
    names = (pair["mic"], pair["reference"])
    audio = {n: engine.read(graph.mics[n].source, 0, sheet.frames) for n in names}
    close = close_mics(sheet.mics, piece)
    nearer = pair["reference"] if pair["reference"] == close[0] else pair["mic"]
    found = align_pair(
        piece,
        *names,
        audio,
        np.array([h.time_s for h in listed if h.piece == piece]),
        np.array([h.time_s for h in listed if h.piece != piece]),
        sheet.rate,
        nearer,
    )
    if found is None:
        return None
    sign = 1 if nearer != pair["mic"] else -1
    return {
        "lags": [int(v) * sign for v in found.lags],
        "values": rounded(found.curve, 3),
        "delay": found.delay_samples,
        "now": round(_left(pair, sheet), 1),
    }
