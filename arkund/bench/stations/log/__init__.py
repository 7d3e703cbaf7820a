"""Log: every revision, and the way back."""

from arkund.bench import history
from arkund.bench.stations.station import Shot, Station

STATION = Station(
    room="log",
    slug="log",
    title="Log",
    context=lambda asked: {
        "lines": history.lines(asked.song),
        "todos": asked.song.todos.all(),
    },
    has_script=False,
    has_findings=False,
    shots=(Shot("log", "mic=snare_top", after_pass=True),),
)
