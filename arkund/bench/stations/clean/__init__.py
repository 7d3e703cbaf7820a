"""Clean: gates, and the regions that are set by hand."""

from django.urls import path

from arkund.bench import rulers
from arkund.bench.stations.clean import picture, views
from arkund.bench.stations.station import Shot, Station

STATION = Station(
    room="clean",
    slug="clean",
    title="Clean",
    number=5,
    context=lambda asked: {
        "choices": [c.as_dict() for c in rulers.gate_choices(asked.sheet, asked.mic)],
        "key_node": f"{asked.mic}.clean.key",
    },
    rulers=lambda asked: rulers.clean_rulers(asked.mic),
    picture=lambda asked: picture.picture(asked.song, asked.sheet, asked.mic, asked.bars),
    addresses=(
        path("<slug:slug>/clean/jump/", views.jump, name="clean-jump"),
        path("<slug:slug>/clean/regions/", views.edit, name="clean-regions"),
    ),
    shots=(Shot("clean", "mic=tom_3&bars=5-6"),),
)
