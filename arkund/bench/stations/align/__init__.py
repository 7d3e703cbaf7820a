"""Align: delay and polarity of the mics."""

from arkund.bench import rulers
from arkund.bench.stations.align import picture
from arkund.bench.stations.station import Key, Shot, Station

STATION = Station(
    room="align",
    slug="align",
    title="Align",
    number=3,
    rulers=lambda asked: rulers.align_rulers(asked.mic),
    picture=lambda asked: picture.picture(asked.song, asked.sheet, asked.mic, asked.bars),
    keys=(Key("I", "flip", "flip the mic's polarity"),),
    shots=(Shot("align", "mic=snare_bottom"),),
)
