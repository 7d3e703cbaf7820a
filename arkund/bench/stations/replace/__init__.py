"""Replace: layers under a drum's hits or instead of them, even hits, patches."""

from typing import Any

from django.urls import path

from arkund.bench import rulers
from arkund.bench.stations.replace import picture, views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.songs import stock


def _layer(asked: Asked) -> str:
    """The layer in the query, or the first of the mic's piece."""
    own = picture.layers_of(asked.sheet, asked.sheet.mics[asked.mic].name.piece)
    named = asked.named("layer")
    return named if named in own else next(iter(own), "")


def _context(asked: Asked) -> dict[str, Any]:
    sheet, name = asked.sheet, _layer(asked)
    piece = sheet.mics[asked.mic].name.piece
    return {
        "layer": name,
        "layers": picture.layers_of(sheet, piece),
        "struck": piece,
        "sources": stock.sources(piece) if piece else [],
        "stock": stock.listed(piece) if piece else [],
        "choices": [c.as_dict() for c in rulers.layer_choices(sheet, name)],
    }


STATION = Station(
    room="replace",
    slug="replace",
    title="Replace",
    number=6,
    context=_context,
    rulers=lambda asked: rulers.replace_rulers(asked.sheet, asked.mic, _layer(asked)),
    picture=lambda asked: picture.picture(
        asked.song, asked.sheet, asked.mic, _layer(asked), asked.named("hit")
    ),
    addresses=(
        path("<slug:slug>/replace/add/", views.add, name="replace-add"),
        path("<slug:slug>/replace/keep/", views.keep, name="replace-keep"),
        path("<slug:slug>/replace/upload/", views.upload, name="replace-upload"),
        path("<slug:slug>/replace/remove/", views.remove, name="replace-remove"),
        path("<slug:slug>/replace/trim/", views.trim, name="replace-trim"),
        path("<slug:slug>/replace/patch/", views.patch, name="replace-patch"),
    ),
    shots=(Shot("replace", "mic=snare_top&bars=5-8", after_pass=True),),
)
