"""Takes: which of them sounds where, joins, copies."""

from arkund.bench.stations.station import Key, Shot, Station
from arkund.bench.stations.takes import picture

STATION = Station(
    room="takes",
    slug="takes",
    title="Edit",
    within="edit",
    picture=lambda asked: picture.picture(asked.song, asked.sheet, asked.mic, asked.bars),
    keys=(Key("J", "nextJoin", "next join"),),
    shots=(Shot("edit-takes", "mic=snare_top"),),
)
