"""First pass: all findings of a school, applied and reported."""

from arkund.bench import history
from arkund.bench.stations.station import Shot, Station
from arkund.bench.views.findings import running_pass

STATION = Station(
    room="first_pass",
    slug="first-pass",
    title="First pass",
    context=lambda asked: (
        history.first_pass_report(asked.song) | {"running": running_pass(asked.song)}
    ),
    has_findings=False,
    shots=(Shot("first-pass", "mic=snare_top", after_pass=True),),
)
