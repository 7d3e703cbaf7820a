"""Outboard: a channel sent through a box and brought back into its own lane."""

from typing import Any

from django.urls import path

from arkund.bench.stations.outboard import views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.bench.views.findings import UNDER_WAY
from arkund.songs import outboard


def _context(asked: Asked) -> dict[str, Any]:
    song, sheet = asked.song, asked.sheet
    nodes = outboard.nodes_of(sheet)
    wished = asked.named("node")
    last = song.jobs.filter(kind=views.KIND, state="done").order_by("-pk").first()
    return {
        "nodes": nodes,
        "node": wished
        if wished in nodes
        else asked.mic
        if asked.mic in nodes
        else next(iter(nodes), ""),
        "boxes": list(outboard.BOXES),
        "sendings": song.sendings.select_related("revision")[:8],
        "running": song.jobs.filter(kind=views.KIND, state__in=UNDER_WAY).first(),
        "last": last.result if last else None,
        "returns": [name for name, mic in sheet.mics.items() if mic.role == "return"],
    }


STATION = Station(
    room="outboard",
    slug="outboard",
    title="Outboard",
    within="print",
    context=_context,
    addresses=(
        path("<slug:slug>/outboard/send/", views.send, name="outboard-send"),
        path("<slug:slug>/outboard/box/", views.box, name="outboard-box"),
        path("<slug:slug>/outboard/bring/", views.bring, name="outboard-bring"),
    ),
    has_findings=False,
    shots=(Shot("outboard", "mic=snare_top", after_pass=True),),
)
