"""Print: stems and mix into a folder or a zip."""

from typing import Any

from django.urls import path

from arkund.bench.stations.printing import views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.songs.models import Job


def _context(asked: Asked) -> dict[str, Any]:
    running = asked.song.jobs.filter(kind="print").exclude(
        state__in=[Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    )
    sheet = asked.sheet
    return {
        "prints": asked.song.prints.select_related("revision"),
        "running": running.first(),
        "files": [*sheet.mics, *(f"{b} return" for b in sheet.buses), "mix"],
    }


STATION = Station(
    room="printing",
    slug="print",
    title="Print",
    number=10,
    context=_context,
    addresses=(
        path("<slug:slug>/print/start/", views.start, name="print-start"),
        path("<slug:slug>/print/<int:number>/", views.download, name="print-download"),
    ),
    has_findings=False,
    shots=(Shot("print", "mic=snare_top", after_pass=True),),
)
