"""Level: trims, faders, pans, and who carries each piece."""

from typing import Any

from django.urls import path

from arkund.bench import rulers
from arkund.bench.stations.level import picture, views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.pairs import other_side, stereo_of

TRIMS_DB = (-1.0, -0.5, 0.5, 1.0)
"""Steps by which mics are trimmed together."""


def _context(asked: Asked) -> dict[str, Any]:
    sheet, mic = asked.sheet, asked.mic
    group = sheet.mics[mic].to
    together = [m for m in mic_order(sheet) if group in sheet.groups and sheet.mics[m].to == group]
    other = other_side(sheet, mic)
    stands = stereo_of(sheet.mics[mic].pan, sheet.mics[other].pan) if other else None
    pair = stands and {
        "width_percent": f"{100 * stands.width:.0f}",
        "balance_percent": f"{100 * stands.balance:.0f}".replace("-", "−"),
    }
    return {"other_side": other, "pair": pair, "together": together, "trims": TRIMS_DB}


STATION = Station(
    room="level",
    slug="level",
    title="Level",
    number=4,
    context=_context,
    rulers=lambda asked: rulers.level_rulers(asked.mic),
    picture=lambda asked: picture.picture(asked.song, asked.sheet, asked.mic, asked.bars),
    addresses=(
        path("<slug:slug>/level/readings/", views.readings, name="readings"),
        path("<slug:slug>/level/clip-gain/", views.clip_gain, name="clip-gain"),
        path("<slug:slug>/level/together/", views.together, name="trim-together"),
        path("<slug:slug>/level/spread/", views.spread, name="spread-pair"),
        path("<slug:slug>/level/mirror/", views.mirror, name="mirror"),
        path("<slug:slug>/carries/", views.carries, name="carries"),
    ),
    shots=(Shot("level", "mic=tom_1"),),
)
