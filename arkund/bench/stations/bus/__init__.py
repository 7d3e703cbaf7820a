"""Bus: groups, parallel buses and the drum bus."""

from typing import Any

from django.urls import path

from arkund.bench import rulers
from arkund.bench.in_hand import chain_context, channel_in_hand, differences_context
from arkund.bench.stations.bus import picture, views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.core.kit.roles import label
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.routes import duplicate, oddities, second_treatment


def _bus(asked: Asked) -> str:
    """The bus, group or drum bus in the query; the drum bus without one."""
    sheet, name = asked.sheet, asked.named("bus")
    known = name in sheet.buses or name in sheet.groups or name == DRUM_BUS
    return name if known else DRUM_BUS


def _rulers(asked: Asked) -> list[rulers.Ruler]:
    name = _bus(asked)
    own = rulers.channel_rulers(asked.sheet, name)
    return own if name == DRUM_BUS else [*own, *rulers.channel_rulers(asked.sheet, DRUM_BUS)]


def _context(asked: Asked) -> dict[str, Any]:
    sheet, mic, name = asked.sheet, asked.mic, _bus(asked)
    sends = sheet.buses[name].sends if name in sheet.buses else {}
    shown = [m for m in (*sheet.mics, *sheet.groups, *sheet.buses) if m in sends]
    hand = channel_in_hand(sheet, name, mic)
    return {
        "bus": name,
        "called": hand.label,
        "is_bus": name in sheet.buses,
        "copy": duplicate(sheet, name) if name in sheet.buses else None,
        "oddities": oddities(sheet),
        "adds": [("bus", "buses"), ("group", "groups")],
        "beside": (label(mic), second_treatment(sheet, mic)),
        "renames": "" if name == DRUM_BUS else hand.path,
        "buses": [(n, channel_in_hand(sheet, n, mic).label) for n in sheet.buses],
        "channels": [*((n, n) for n in sheet.groups), (DRUM_BUS, "drum bus")],
        "chain": chain_context(hand, None, {"mic": mic, "channel": name}),
        "differences": differences_context(sheet, hand, None, ""),
        "sends": [
            r.with_value(sheet)
            | {
                "at": f"buses.{name}.sends.{source}",
                "has_hits": source in sheet.mics and sheet.mics[source].name.piece is not None,
            }
            for r, source in zip(rulers.send_rulers(name, shown), shown, strict=True)
        ],
        "could_send": [
            (n, channel_in_hand(sheet, n, n).label)
            for n in (*mic_order(sheet), *sheet.groups, *sheet.buses)
            if n not in shown and n != name
        ],
    }


STATION = Station(
    room="bus",
    slug="bus",
    title="Bus",
    number=8,
    context=_context,
    rulers=_rulers,
    picture=lambda asked: picture.picture(
        asked.song, asked.sheet, asked.mic, asked.bars, _bus(asked)
    ),
    addresses=(path("<slug:slug>/bus/blend/", views.blend, name="bus-blend"),),
    shots=(Shot("bus", "mic=snare_top&bars=9-12", after_pass=True),),
)
