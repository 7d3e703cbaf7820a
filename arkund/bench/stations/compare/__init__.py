"""Compare: two revisions, by ear and in words."""

from typing import Any

from arkund.bench import history
from arkund.bench.requests import asked_revision
from arkund.bench.stations.station import Asked, Shot, Station


def _context(asked: Asked) -> dict[str, Any]:
    """The two revisions of the query; the first and the present one by default."""
    song = asked.song
    assert song.current is not None
    a, b = (asked_revision(asked.request, song, name) for name in ("a", "b"))
    return history.comparison(song, a or 1, b or song.current.number)


STATION = Station(
    room="compare",
    slug="compare",
    title="Compare",
    context=_context,
    has_findings=False,
    shots=(Shot("compare", "a=1&mic=snare_top", after_pass=True),),
)
