"""Replace: a piece's hits by level with the samples under them; drum, layer and their sum at one
typical hit."""

from collections.abc import Sequence
from contextlib import suppress
from typing import Any

import numpy as np

from arkund.bench.drawing import rounded
from arkund.bench.stations.replace.samples import following_of, samples_of
from arkund.core.advise.pitch import drum_hz
from arkund.core.advise.replace import layers, uneven
from arkund.core.errors import ArkundError
from arkund.core.graph.chains import Processed
from arkund.core.graph.nodes import Node
from arkund.core.graph.struck import Row, Struck
from arkund.core.graph.summing import Mixed, Varied
from arkund.core.graph.toned import Toned
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, piece_family
from arkund.core.replace.harvest import HEAD_S
from arkund.core.sheet.layers import NOTE_HZ, AnyLayer, SubLayer
from arkund.core.sheet.sheet import Sheet
from arkund.core.units import amplitude_to_db, hz_to_note, note_and_cents, octaves_of
from arkund.songs import replacing
from arkund.songs.models import Song
from arkund.songs.rendering import engine_for, graph_of
from arkund.songs.studies import study_of
from arkund.songs.wording import value_words

SHOWN, MOST_TO_MEND = 8, 6
"""Candidates in the table, and flams offered for patching."""

ZOOM_S = (-0.002, 0.04)
COLUMNS = 400


def layers_of(sheet: Sheet, piece: str | None) -> list[str]:
    """The layers that follow a piece."""
    return [
        name
        for name, layer in sheet.layers.items()
        if piece is not None and sheet.mics[layer.of].name.piece == piece
    ]


EVEN_DB = 3.0
"""Accents that spread by less are even."""


def _even_said(spread_db: float, accents: int) -> str:
    """How unequal a piece's accents are, in words."""
    if not accents:
        return ""
    enough = ": nothing needed here" if spread_db < EVEN_DB else ""
    return f"{accents} accents spread by {value_words(spread_db, 'dB')}{enough}"


def picture(song: Song, sheet: Sheet, mic: str, name: str, hit_id: str = "") -> dict[str, Any]:
    """Of the mic's piece, of the layer ``name`` where there is one, and of a hit that is
    asked for by id."""
    study = study_of(sheet)
    piece = sheet.mics[mic].name.piece
    if piece is None or mic not in study.mics:
        return {"piece": "", "hits": [], "candidates": [], "rulers": {}}
    try:
        found = layers.harvest(study, piece)
    except ArkundError:
        found = []
    lead = layers.followed(study, piece)
    spread, accents = uneven.spread_db(study, lead)
    ordered = sorted(study.hits_on(piece), key=lambda h: h.velocity)
    out: dict[str, Any] = {
        "piece": piece,
        "family": piece_family(piece),
        "called": label(piece),
        "candidates": [layers.described(c, study.rate) for c in found[:SHOWN]],
        "count": len(found),
        "of": len(study.hits_on(piece)),
        "even_said": _even_said(round(spread, 1), accents),
        "mend": _to_mend(song, study.hits_on(piece), hit_id),
        "hits": [
            {"id": h.id, "v": h.velocity, "kind": h.kind, "t": round(h.time_s, 3)} for h in ordered
        ],
        "rulers": {},
    }
    layer = sheet.layers.get(name)
    if layer is None:
        return out
    drawn = _layer(sheet, name, layer)
    given = {row["at"]: row["sound"] for row in drawn["rows"]}
    shift = sheet.mics[layer.of].delay_samples
    for row, hit in zip(out["hits"], ordered, strict=True):
        row["sound"] = given.get(round(hit.time_s * study.rate + shift))
    return out | drawn


def _to_mend(song: Song, own: Sequence[Hit], hit_id: str) -> list[dict[str, Any]]:
    """The hit that is asked for, and flams, each with what can stand in for it."""
    asked = [h for h in own if h.id == hit_id]
    flams = [h for h in own if h.kind == "flam" and h.id != hit_id][:MOST_TO_MEND]
    out = []
    for hit in [*asked, *flams]:
        with suppress(ArkundError):
            out.append(replacing.stand_ins(song, hit.id) | {"velocity": hit.velocity})
    return out


def _layer(sheet: Sheet, name: str, layer: AnyLayer) -> dict[str, Any]:
    """What the layer gives each hit, and a typical one of them at sample zoom."""
    engine, graph = engine_for(sheet), graph_of(sheet)
    entry = _played(graph.chains[name].entry)
    if not isinstance(entry, (Struck, Toned)):
        return {
            "rows": [],
            "layer": name,
            "said": "The hits that this layer was made of have left the song.",
        }
    planned = entry.plan(engine)
    rows = [row for row in planned if row.gain]
    if not rows:
        return {"rows": [], "layer": name}
    shifts = [1000 * _late(row, entry, sheet.rate) for row in rows]
    gains = 10 ** (layer.fader_db / 20)
    typical = sorted(rows, key=lambda r: abs(r.gain))[len(rows) // 2]
    first, last = (round(typical.onset + s * sheet.rate) for s in ZOOM_S)
    crossed = isinstance(layer, SubLayer) and layer.crossover and not layer.mute
    beside = graph.mics[layer.of].chained.entry if crossed else entry.drum
    drum = np.asarray(engine.read(beside, first, last))
    laid = np.asarray(engine.read(graph.chains[name].end, first, last))[:, 0] * np.float32(gains)
    low = 20 * np.log10(
        max(float(np.sqrt(np.mean((drum + laid) ** 2))), 1e-9)
        / max(float(np.sqrt(np.mean(drum**2))), 1e-9)
    )
    rulers: dict[str, Any] = {}
    said_too = ""
    if isinstance(layer, SubLayer):
        hz = drum_hz(study_of(sheet), sheet.mics[layer.of].name.piece or "")
        rulers, said_too = _of_sub(sheet, name, layer, hz)
    return {
        "layer": name,
        "rulers": rulers,
        "samples": samples_of(sheet, layer, entry, rows, engine),
        "left_out": list(layer.left_out),
        "following": following_of(layer, entry, engine),
        "rows": [
            {
                "at": round(r.onset),
                "sound": int(r.sound),
                "gain_db": round(amplitude_to_db(abs(r.gain)), 1),
            }
            for r in rows
        ],
        "said": _said(rows, len(planned), shifts, low) + said_too,
        "zoom": {
            "ms": [1000 * s for s in ZOOM_S],
            "drum": _thin(drum),
            "layer": _thin(laid),
            "sum": _thin(drum + laid),
        },
    }


def _played(entry: Node) -> Node:
    """What plays the samples or the tone, behind whatever treats it."""
    while isinstance(entry, (Mixed, Varied, Processed)):
        if isinstance(entry, Processed):
            entry = entry.source
        else:
            entry = entry.inputs[0][0] if isinstance(entry, Mixed) else entry.parts[0][2]
    return entry


def _of_sub(sheet: Sheet, name: str, layer: SubLayer, hz: float) -> tuple[dict[str, Any], str]:
    """A tone's rulers against the drum's own pitch ``hz``, and how the two meet in words."""
    if not hz:
        return {}, ""
    at_hz, slope = layers.crossover_of(layer.note_hz, hz)
    rulers = {
        f"layers.{name}.note_hz": {
            "proposed": round(layers.note_under(hz, sheet.root_note), 2),
            "marks": [(f, n) for n, f in octaves_of(sheet.root_note, *NOTE_HZ)],
            "note": note_and_cents(layer.note_hz),
        },
        f"layers.{name}.crossover_hz": {"proposed": round(at_hz, 1)},
    }
    said = (
        f"; drum {hz:.0f} Hz ({hz_to_note(hz)}), sub {layer.note_hz:.0f} Hz: "
        f"a crossover fits at {at_hz:.0f} Hz, {slope} dB/oct"
    )
    return rulers, said


def _said(rows: Sequence[Row], of: int, shifts_ms: Sequence[float], low_db: float) -> str:
    """How many hits get something, how far they were placed, and what the sum is."""
    laid = len(rows)
    how_many = (
        f"{laid} hits"
        if laid == of
        else f"{laid} of {of} hits (under the others it would thin the drum)"
    )
    alike = float(np.median([r.alike for r in rows]))
    far = max(abs(s) for s in shifts_ms)
    return (
        f"{how_many}; each placed within {far:.2f} ms of the list, {alike:.0%} alike; the sum of this one "
        f"is {low_db:+.1f} dB against the drum alone"
    ).replace("-", "−")


def _late(row: Row, entry: Struck | Toned, rate: int) -> float:
    """By how many s a row's sound lies beside where the list of hits has it."""
    head = HEAD_S if isinstance(entry, Struck) else 0.0
    return (row.begins - row.onset) / rate + head


def _thin(sound: "np.ndarray[Any, Any]") -> list[float]:
    return rounded(
        np.interp(np.linspace(0, len(sound) - 1, COLUMNS), np.arange(len(sound)), sound), 4
    )
