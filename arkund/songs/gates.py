"""The gates of a stored song: what they hear, what is proposed, and what they do."""

from collections.abc import Sequence
from dataclasses import asdict, astuple
from typing import Any

import numpy as np

from arkund.core.advise.clean.proposing import wanted_key
from arkund.core.clean.jump import cymbals_jump_db, shut_at
from arkund.core.clean.keying import KeyFilter
from arkund.core.clean.proposal import GateProposal, propose_gate, report_gate
from arkund.core.clean.rule import SOFT_MS
from arkund.core.graph.hits import Hits, sounding_unlisted
from arkund.core.graph.nodes import Gated, Node, key_of
from arkund.core.graph.sources import gate_rule
from arkund.core.kit.roles import parse_mic_name
from arkund.core.measure.hits import mean_envelope_db, ring_by_band_s
from arkund.core.render.engine import Engine
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.treating import Clean
from arkund.songs import by_hand, lately, storage
from arkund.songs.facts import hits_of
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of
from arkund.songs.timing import sheet_of


def gates(song: Song) -> dict[str, Any]:
    sheet = sheet_of(song)
    out = []
    for mic in mic_order(sheet):
        if parse_mic_name(mic).piece is None:
            continue
        proposed = gate_proposal(sheet, mic)
        as_clean = sheet.mics[mic].clean.model_copy(
            update={
                "on": True,
                "opens_on": proposed.opens_on,
                "hold_ms": proposed.hold_ms,
                "threshold_db": proposed.threshold_db,
                "release_ms": proposed.release_ms,
                "range_db": proposed.range_db,
                "soft_ms": SOFT_MS,
            }
        )
        out.append(
            {
                "mic": mic,
                "current": sheet.mics[mic].clean.model_dump(exclude={"regions"})
                | gate_report(sheet, mic)
                | {"cymbals_jump_db": cymbals_jump(sheet, mic)},
                "proposed": asdict(proposed) | gate_report(sheet, mic, as_clean),
                "regions": by_hand.described(song, mic),
            }
        )
    return {"mics": out}


def gate_input(sheet: Sheet, mic: str) -> "np.ndarray[Any, np.dtype[np.float32]]":
    """A mic's whole sound as its gate receives it."""
    return _whole(sheet, graph_of(sheet).mics[mic].placed)


def gate_key(sheet: Sheet, mic: str) -> "np.ndarray[Any, np.dtype[np.float32]]":
    """What the threshold of a mic's gate hears over the song: itself, another mic, a band of it."""
    return _whole(sheet, graph_of(sheet).node(f"{mic}.clean.key"))


def _whole(sheet: Sheet, node: Node) -> "np.ndarray[Any, np.dtype[np.float32]]":
    """A node's whole sound, the last two kept: a threshold is moved many times over the same."""
    return lately.heard(
        f"{node.key}-{sheet.frames}",
        lambda: np.ascontiguousarray(engine_for(sheet).read(node, 0, sheet.frames)),
    )


def gate_filter(sheet: Sheet, mic: str) -> KeyFilter | None:
    """The filter that a mic's gate would best listen through, found once for what it hears."""
    placed, hits, piece = (
        graph_of(sheet).mics[mic].placed,
        hits_of(sheet),
        parse_mic_name(mic).piece,
    )
    delay = sheet.mics[mic].delay_samples

    def find(whole: Engine) -> "np.ndarray[Any, np.dtype[np.float64]]":
        sound = np.ascontiguousarray(whole.read(placed, 0, sheet.frames))
        found = wanted_key(sound, sheet.rate, piece or "", hits, delay)
        return np.array(astuple(found) if found else (), np.float64)

    key = key_of("gate filter", 1, placed.key, piece, [(h.piece, h.kind, h.time_s) for h in hits])
    found = engine_for(sheet).track(key, find)
    return KeyFilter(*map(float, found)) if len(found) else None


def ring_by_band(sheet: Sheet, mic: str) -> "np.ndarray[Any, np.dtype[np.float64]]":
    """`ring_by_band_s` of a mic's drum as its gate receives it, measured once for what it hears."""
    placed, piece = graph_of(sheet).mics[mic].placed, parse_mic_name(mic).piece
    late = sheet.mics[mic].delay_samples / sheet.rate
    times = [h.time_s + late for h in hits_of(sheet) if h.piece == piece and h.kind != "ghost"]

    def find(whole: Engine) -> "np.ndarray[Any, np.dtype[np.float64]]":
        sound = np.ascontiguousarray(whole.read(placed, 0, sheet.frames))
        return ring_by_band_s(sound, sheet.rate, times)

    return engine_for(sheet).track(key_of("ring", 1, placed.key, times), find)


def gate_proposal(sheet: Sheet, mic: str) -> GateProposal:
    """The gate that a mic would get; no threshold that is tried changes it."""
    piece = parse_mic_name(mic).piece or ""
    hits, delay = hits_of(sheet), sheet.mics[mic].delay_samples
    return lately.named(
        _of_input("proposal", sheet, mic),
        lambda: propose_gate(gate_input(sheet, mic), sheet.rate, piece, hits, delay),
    )


def hit_envelope_db(
    sheet: Sheet, mic: str, onsets: Sequence[float], seconds: float, columns: int
) -> "np.ndarray[Any, np.dtype[np.float64]]":
    """`mean_envelope_db` of a mic's hits as its gate receives them."""
    return lately.named(
        _of_input(f"envelope {seconds} {columns} {list(onsets)}", sheet, mic),
        lambda: mean_envelope_db(gate_input(sheet, mic), sheet.rate, onsets, seconds, columns),
    )


def _of_input(what: str, sheet: Sheet, mic: str) -> str:
    """Names what rests on a gate's input and on the hits."""
    placed = graph_of(sheet).mics[mic].placed
    return key_of(what, placed.key, mic, [(h.piece, h.kind, h.time_s) for h in hits_of(sheet)])


def gate_report(sheet: Sheet, mic: str, clean: Clean | None = None) -> dict[str, Any]:
    """What a gate (the mic's own by default) passes, misses and lets in over the whole take."""
    c = clean or sheet.mics[mic].clean
    if not c.on:
        return {}
    piece = parse_mic_name(mic).piece or ""
    delay = sheet.mics[mic].delay_samples
    sound = gate_input(sheet, mic)
    listed = hits_of(sheet)
    unlisted = sounding_unlisted(sheet, storage.library(), listed)
    strays = [h.time_s for h in unlisted if h.piece == piece]
    hits = Hits([*listed, *unlisted])
    mic_so = sheet.mics[mic].model_copy(update={"clean": c})
    rule = gate_rule(mic_so, sheet.rate, lambda: hits)
    key = gate_key(sheet, mic) if c.opens_on == "threshold" else sound
    gated = None
    if c.shuts == "ring":
        held = sheet.mics[mic].model_copy(update={"clean": c})
        then = sheet.model_copy(update={"mics": {**sheet.mics, mic: held}})
        gated = _whole(then, graph_of(then).mics[mic].clean)
    openings = rule.openings([(0, key)], len(sound))
    return asdict(
        report_gate(
            sound,
            sheet.rate,
            piece,
            listed,
            openings,
            rule.shape(openings),
            delay,
            strays,
            c.ghosts_db,
            gated,
        )
    )


def cymbals_jump(sheet: Sheet, mic: str, span: tuple[int, int] | None = None) -> float | None:
    """By how many dB the cymbals of the whole kit fall when a mic's gate shuts, as mics go into the
    mix, within a ``span`` of samples (the whole song by default); None where no gate is in."""
    graph, engine = graph_of(sheet), engine_for(sheet)
    node = graph.mics[mic].clean
    if not isinstance(node, Gated) or mic not in graph.outs:
        return None
    start, stop = span or (0, sheet.frames)
    shuts = shut_at(node.shape(engine))
    shuts = shuts[(shuts >= start) & (shuts < stop)] - start
    ungated = sheet.mics[mic].clean.model_copy(update={"on": False})
    held = sheet.mics[mic].model_copy(update={"clean": ungated})
    opened = graph_of(sheet.model_copy(update={"mics": {**sheet.mics, mic: held}})).outs[mic]
    others = np.zeros((stop - start, 2), np.float32)
    for name, out in graph.outs.items():
        if name != mic:
            others += engine.read(out, start, stop)
    return cymbals_jump_db(
        others + engine.read(opened, start, stop),
        others + engine.read(graph.outs[mic], start, stop),
        sheet.rate,
        shuts,
    )
