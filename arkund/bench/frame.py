"""What every station's page has around its picture: stations, kit plan, mics, strip."""

from collections.abc import Sequence
from typing import Any

import numpy as np
from django.http import HttpRequest
from django.templatetags.static import static

from arkund.bench.plan import drawn, family_of, x_of, y_of
from arkund.bench.requests import asked_loop, asked_mic, bars_of
from arkund.bench.stations.registry import STATIONS
from arkund.bench.stations.station import Station
from arkund.core.graph.summing import pan_gains
from arkund.core.kit.plan import place_mics, place_pieces
from arkund.core.kit.roles import BESIDE, label, parse_mic_name
from arkund.core.render.engine import TILE_S
from arkund.core.sheet.channels import DRUM_BUS, Mic
from arkund.core.sheet.lanes import mic_order, sounding_mics
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.pairs import lane
from arkund.core.sheet.sheet import Sheet
from arkund.core.timing.grid import Grid
from arkund.songs import first_visit, hits, soundness
from arkund.songs.facts import MicFacts, mic_files
from arkund.songs.models import Song
from arkund.songs.passages import offered
from arkund.songs.rendering import grid_of


def frame(request: HttpRequest, song: Song, sheet: Sheet, here: Station) -> dict[str, Any]:
    """Context of the page's frame."""
    grid = grid_of(sheet)
    mic = asked_mic(request, sheet)
    first, last = asked_loop(request, sheet, grid)
    rows = mic_files(sheet)
    pieces = hits.known_pieces(sheet)
    own = parse_mic_name(mic)
    soundness.look(sheet)
    return {
        "song": song,
        "lost": soundness.known(sheet),
        "sheet": sheet,
        "revision": song.current,
        "station": here.slug,
        "rail": here.within or here.slug,
        "with_findings": here.has_findings,
        "school": song.school["name"],
        "station_name": here.title,
        "stations": [s for s in STATIONS.values() if s.number is not None],
        "all_stations": STATIONS.values(),
        "mic": mic,
        "piece": own.piece,
        # All mics of a drum together, which is how a pair is judged.
        "group": to if (to := sheet.mics[mic].to) in sheet.groups and to != mic else "",
        "beside": {m.role for m in sheet.mics.values() if not m.unused},
        "bars": (first, last),
        "todo_mics": mic_order(sheet),
        "hearable": _heard_together(sheet),
        "passages": offered(sheet, own.piece),
        "plan": _plan(sheet, pieces, mic, rows),
        "groups": _groups(sheet, mic, rows),
        "way": first_visit.shown_on(song),
        "bench": _for_scripts(request, song, sheet, here, mic, (first, last)),
    }


def _for_scripts(
    request: HttpRequest, song: Song, sheet: Sheet, here: Station, mic: str, loop: tuple[int, int]
) -> dict[str, Any]:
    """What the page's scripts know of song, station and mic."""
    grid, own, rows = grid_of(sheet), parse_mic_name(mic), mic_files(sheet)
    first, last = loop
    return {
        "slug": song.slug,
        "station": here.slug,
        "script": static(here.script) if here.script else "",
        "draws": here.picture is not None,
        "stations": list(STATIONS),
        "keys": {key.key.lower(): key.does for key in here.keys},
        "revision": song.current.number if song.current else 0,
        "mic": mic,
        "piece": own.piece,
        "rate": sheet.rate,
        "frames": sheet.frames,
        "tile": TILE_S * sheet.rate,
        "bpm": sheet.tempo.bpm,
        "beats": sheet.tempo.beats,
        "beat_s": grid.beat_s,
        "bar_starts": bar_starts(sheet, grid),
        "first_downbeat_s": sheet.tempo.first_downbeat_s,
        "bars": bars_of(sheet, grid),
        "loop": [first, last],
        # What the pictures of these pages hang on besides the mic.
        "hand": {
            k: v
            for k in ("channel", "stage", "band", "bus", "layer", "hit")
            if (v := request.GET.get(k, ""))
        },
        "live": (live := live_lanes(sheet, here.slug, mic, request.GET.get("bus", ""))),
        "off_db": OFF_DB,
        "pan_gains": [[round(g, 5) for g in pan_gains(n / 20 - 1)] for n in range(41)],
        "sheet": {
            "mics": {
                m: sheet.mics[m].model_dump(mode="json")
                for m in (mic, *(one["node"] for one in live))
                if m in sheet.mics
            },
            **{
                part: {n: c.model_dump(mode="json") for n, c in getattr(sheet, part).items()}
                for part in ("layers", "groups", "buses")
            },
            "drum_bus": sheet.drum_bus.model_dump(mode="json"),
            "timing": sheet.timing.model_dump(mode="json"),
        },
        "sections": [s.model_dump() for s in sheet.sections],
        "copies": [c.model_dump() for c in sheet.copies],
        "mics": mic_order(sheet),
        "pieces": {name: sheet.mics[name].name.piece for name in mic_order(sheet)},
        "peaks": {r.mic: 10 ** (r.measures.get("peak_dbfs", 0.0) / 20) for r in rows},
        "strip_mic": next(
            (m for m in ("overhead_l", "overhead", "kit") if m in sheet.mics),
            mic_order(sheet)[0],
        ),
    }


def _heard_together(sheet: Sheet) -> list[dict[str, Any]]:
    """What may be heard together: mics, then groups, layers and buses, each part with its nodes."""
    parts = {
        "mics": [(m, label(m)) for m in sounding_mics(sheet)],
        "groups": [(name, f"{name} mics") for name in sheet.groups],
        "layers": [(name, label(name)) for name in sheet.layers],
        "returns": [(name, name) for name in sheet.buses],
    }
    return [{"name": name, "nodes": nodes} for name, nodes in parts.items() if nodes]


def live_lanes(sheet: Sheet, station: str, mic: str, bus: str) -> list[dict[str, Any]]:
    """What a hand on this page moves at once: the mic with its other side where they are one lane, or
    the bus; where its fader is set, and the faders that it runs through on its way out."""
    end = f"{DRUM_BUS}.fader_db"
    if station == "bus":
        name = bus or next(iter(sheet.buses), "")
        path = f"buses.{name}"
        own = {"node": name, "path": path, "level": path, "behind": True, "through": [end]}
        return [own] if name in sheet.buses else []
    if station != "level":
        return []
    out = []
    for one in lane(sheet, mic):
        to = sheet.mics[one].to
        group = [f"groups.{to}.fader_db"] if to in sheet.groups else []
        out.append(
            {
                "node": one,
                "path": f"mics.{one}",
                "level": f"mics.{mic}",
                "behind": False,
                "through": [*group, end],
            }
        )
    return out


def bar_starts(sheet: Sheet, grid: Grid) -> list[float]:
    """Seconds at which each bar begins, and the one after the last."""
    bars = np.arange(1, bars_of(sheet, grid) + 2, dtype=np.float64)
    return [round(s, 6) for s in grid.bar_starts_s(bars).tolist()]


def _plan(sheet: Sheet, pieces: list[str], chosen: str, rows: list[MicFacts]) -> dict[str, Any]:
    placed = place_pieces(pieces)
    flags = {
        row.mic: open_flags(sheet.mics[row.mic], row.measures.get("flags", [])) for row in rows
    }
    own = parse_mic_name(chosen).piece
    first_mic: dict[str, str] = {}
    for mic in mic_order(sheet):
        piece = parse_mic_name(mic).piece
        if piece:
            first_mic.setdefault(piece, mic)
    return {
        "pieces": [
            drawn(p) | {"mic": first_mic.get(p.piece), "chosen": p.piece == own} for p in placed
        ],
        "mics": [
            {
                "mic": m.mic,
                "label": label(m.mic),
                "x": x_of(m.x),
                "y": y_of(m.y),
                "tip_x": round(x_of(m.x) + 0.22 * (x_of(m.aim_x) - x_of(m.x)), 1),
                "tip_y": round(y_of(m.y) + 0.22 * (y_of(m.aim_y) - y_of(m.y)), 1),
                "chosen": m.mic == chosen,
                "trouble": bool(flags.get(m.mic)),
            }
            for m in place_mics([n for n in mic_order(sheet) if _has_a_place(n)], placed)
        ],
    }


def is_mended(mic: Mic, flag: str) -> bool:
    """Whether the sheet settles what was noted of a mic when it came in."""
    settled = {
        "wild": bool(mic.repair.clip_gains),
        "clipped": bool(mic.repair.rebuilt),
        "hum": bool(mic.repair.hum_hz),
        "dc": bool(mic.repair.dc),
        "hot": mic.trim_db < 0,
    }
    return settled.get(flag, False)


def open_flags(mic: Mic, flags: Sequence[str]) -> list[str]:
    """What was noted of a mic and is not mended."""
    return [flag for flag in flags if not is_mended(mic, flag)]


def _groups(sheet: Sheet, chosen: str, rows: list[MicFacts]) -> list[dict[str, Any]]:
    """Mics under the plan: those of the chosen piece, then the others."""
    measured = {row.mic: row.measures for row in rows}
    own = parse_mic_name(chosen).piece
    near: list[dict[str, Any]] = []
    rest: list[dict[str, Any]] = []
    beside: list[dict[str, Any]] = []
    for mic in mic_order(sheet):
        name = parse_mic_name(mic)
        entry = {
            "mic": mic,
            "label": label(mic),
            "chosen": mic == chosen,
            "family": family_of(name.piece) if name.piece else "ambience",
            "flags": open_flags(sheet.mics[mic], measured.get(mic, {}).get("flags", [])),
            "mended": [
                f for f in measured.get(mic, {}).get("flags", []) if is_mended(sheet.mics[mic], f)
            ],
            "peak": measured.get(mic, {}).get("peak_dbfs"),
            "mute": sheet.mics[mic].mute,
        }
        if _beside(mic):
            beside.append(entry)
        else:
            (near if (name.piece or "") == (own or "") else rest).append(entry)
    return [
        {"name": label(own) if own else "ambience", "mics": near},
        {"name": "other mics", "mics": rest},
        {"name": "beside the drums", "mics": beside},
    ]


def _has_a_place(mic: str) -> bool:
    """Whether a mic stands somewhere around the kit: a return came by wire."""
    return not _beside(mic) and parse_mic_name(mic).role != "return"


def _beside(mic: str) -> bool:
    """Whether a mic is heard beside the drums: a click, the bed, a reference."""
    return parse_mic_name(mic).role in BESIDE
