"""Load-in: what was recorded, by which mics, at which tempo."""

from django.urls import path

from arkund.bench.stations.load_in import picture, set_up, tempo
from arkund.bench.stations.station import Key, Shot, Station
from arkund.songs import facts

STATION = Station(
    room="load_in",
    slug="load-in",
    title="Load-in",
    number=1,
    context=lambda asked: picture.context(asked.sheet, asked.mic, facts.mic_files(asked.sheet)),
    keys=(Key("T", "takeOtherTempo", "the other tempo that the hits fit"),),
    addresses=(
        path("<slug:slug>/set-up/", set_up.start, name="set-up"),
        path("<slug:slug>/tempo/follow/", tempo.follow, name="tempo-follow"),
        path("<slug:slug>/tempo/click/", tempo.click, name="tempo-click"),
        path("<slug:slug>/tempo/count-in/", tempo.count_in, name="tempo-count-in"),
        path("<slug:slug>/tempo/tapped/", tempo.tapped, name="tempo-tapped"),
        path("<slug:slug>/tempo/midi/", tempo.upload, name="tempo-midi"),
        path("<slug:slug>/hits.mid", tempo.download, name="hits-midi"),
    ),
    shots=(Shot("load-in", "mic=crush"),),
)
