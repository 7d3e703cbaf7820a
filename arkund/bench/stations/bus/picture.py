"""Bus: what feeds the parallel bus, what it does, and the mix's figures before and after."""

from typing import Any

import numpy as np

from arkund.bench.drawing import Bars, loop_frames, rounded
from arkund.bench.in_hand import channel_in_hand
from arkund.bench.stations.dynamics.picture import reduction_over, small_hits
from arkund.core.advise.goal import GOALS, Figure, figures, hits_in
from arkund.core.kit.roles import label, parse_mic_name, piece_family
from arkund.core.measure.punch import punch_card
from arkund.core.process.compressor import Compressor
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db
from arkund.songs import findings
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of, render_span

SHELLS = ("kick", "snare", "tom")


def picture(song: Song, sheet: Sheet, mic: str, bars: Bars, name: str = "") -> dict[str, Any]:
    """Of the bus, group or drum bus ``name``; of the first bus without it."""
    start, stop = loop_frames(sheet, bars)
    now = render_span(sheet, "output", "now", start, stop)
    then = render_span(sheet, "output", "recorded", start, stop)
    rate = sheet.rate
    hits = [h for h in hits_of(sheet) if start <= h.time_s * rate < stop]
    shells = [h for h in hits if piece_family(h.piece) in SHELLS]
    onsets = [h.time_s - start / rate for h in shells]
    in_loop = hits_in(hits, (start / rate, stop / rate), fewest=1)
    before, after = (punch_card(sound, rate, in_loop) for sound in (then, now))
    card = [
        _row("peak", "dBFS", _peak(then), _peak(now)),
        _row("true peak", "dBTP", before.true_peak_dbtp, after.true_peak_dbtp),
        _row("loudness", "LUFS", before.loudness_lufs, after.loudness_lufs),
        *(_goal_row(f) for f in figures(before, after, GOALS[findings.school_of_song(song).goal])),
    ]
    out: dict[str, Any] = {
        "card": card,
        "peak_dbfs": _peak(now),
        "span": [start, stop],
        "bus": name,
        "called": channel_in_hand(sheet, name, mic).label,
        "chain": small_hits(sheet, graph_of(sheet).chain(name), start, stop, onsets),
        "routing": _routing(sheet, name, start, stop),
        "groups": _groups(sheet),
        "rulers": {f"{DRUM_BUS}.fader_db": {"proposed": _wanted_level(sheet, now)}},
    }
    return out | _squeeze(sheet, name, start, stop) if name else out


def _row(name: str, unit: str, before: float, after: float) -> dict[str, Any]:
    return {"name": name, "unit": unit, "before": round(before, 1), "after": round(after, 1)}


def _goal_row(figure: Figure) -> dict[str, Any]:
    """A figure of the punch card with what the school wants it to gain."""
    row = _row(figure.name, figure.unit, figure.recorded, figure.now)
    if not figure.has_goal:
        return row
    return row | {"wanted": figure.wish, "met": figure.is_met}


def _peak(sound: np.ndarray[Any, Any]) -> float:
    return round(amplitude_to_db(float(np.abs(sound).max(initial=0.0))), 1)


def _routing(sheet: Sheet, name: str, start: int, stop: int) -> list[dict[str, Any]]:
    """Each mic, with the layers that follow it behind, its peak in the loop, its fader and its send
    to the bus ``name``."""
    engine, graph = engine_for(sheet), graph_of(sheet)
    bus = sheet.buses.get(name)
    sends = {m: send.db for m, send in bus.sends.items()} if bus else {}
    rows = []
    for mic in mic_order(sheet):
        piece = parse_mic_name(mic).piece
        laid = [n for n, layer in sheet.layers.items() if layer.of == mic]
        channels = {mic: sheet.mics[mic], **{n: sheet.layers[n] for n in laid}}
        for source, channel in channels.items():
            node = graph.mics[mic].shaped if source == mic else graph.chains[source].end
            rows.append(
                {
                    "mic": source,
                    "label": label(source),
                    "peak": _peak(engine.read(node, start, stop)),
                    "family": piece_family(piece) if piece else "ambience",
                    "fader": None if channel.mute else channel.fader_db,
                    "send": sends[source] if sends.get(source, OFF_DB) > OFF_DB else None,
                    "to": channel.to if source in graph.outs or source in graph.layers else "",
                }
            )
    return rows


def _groups(sheet: Sheet) -> list[dict[str, Any]]:
    """The groups that something runs into, with what each does in a word."""
    used = {channel.to for channel in (*sheet.mics.values(), *sheet.layers.values())}
    return [
        {
            "name": name,
            "fader": None if group.mute else group.fader_db,
            "stages": sum(stage.on for stage in group.chain),
        }
        for name, group in sheet.groups.items()
        if name in used
    ]


def _squeeze(sheet: Sheet, name: str, start: int, stop: int) -> dict[str, Any]:
    """What the compressors of a channel take off over the loop, all of them together."""
    chained = graph_of(sheet).chain(name)
    total = np.zeros(1)
    for stage in chained.chain:
        if isinstance(stage, Compressor):
            total = total + reduction_over(
                sheet, chained.before(stage.id), stage, start, stop, chained.keys.get(stage.id)
            )
    reduction = rounded(total, 2) if len(total) > 1 else []
    return {
        "reduction": reduction,
        "most_db": round(max(reduction, default=0.0), 1),
        "typical_db": round(float(np.median([r for r in reduction if r > 0.5] or [0.0])), 1),
    }


LOUDEST_HITS, AROUND_S = 6, 0.12


def _wanted_level(sheet: Sheet, loop: np.ndarray[Any, Any]) -> float:
    """Drum-bus level at which the mix peaks at −8 dBFS, the middle of its zone: by the loop and the
    song's loudest hits, so that no picture waits for a whole song."""
    rate, engine, node = sheet.rate, engine_for(sheet), graph_of(sheet).output
    loudest = sorted(hits_of(sheet), key=lambda h: h.velocity, reverse=True)[:LOUDEST_HITS]
    spans = [(round(h.time_s * rate), round((h.time_s + AROUND_S) * rate)) for h in loudest]
    peak = max([_peak(loop), *(_peak(engine.read(node, *span)) for span in spans)])
    level = sheet.drum_bus.fader_db
    return round(float(np.clip(level - 8.0 - peak, -24, 12)), 1)
