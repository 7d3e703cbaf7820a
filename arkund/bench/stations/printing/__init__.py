"""Print: stems and mix into a folder or a zip."""

from typing import Any

from django.urls import path

from arkund.bench.stations.printing import views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.core.render.printing import files_of
from arkund.core.sheet.sheet import Sheet
from arkund.songs.models import Job
from arkund.songs.rendering import graph_of
from arkund.songs.wording import value_words


def _context(asked: Asked) -> dict[str, Any]:
    running = asked.song.jobs.filter(kind="print").exclude(
        state__in=[Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    )
    return {
        "prints": asked.song.prints.select_related("revision"),
        "running": running.first(),
        "files": files_of(graph_of(asked.sheet), f"{asked.song.slug}_"),
        "drum_bus_words": _drum_bus_words(asked.sheet),
    }


def _drum_bus_words(sheet: Sheet) -> str:
    """What the mix has of the drum bus that the stems do not have."""
    bus = sheet.drum_bus
    does = [stage.label.lower() for stage in bus.chain if stage.on]
    if bus.fader_db:
        does.append(f"level of {value_words(bus.fader_db, 'dB')}")
    if not does:
        return "The drum bus changes nothing: the sum is the mix."
    listed = " and ".join([", ".join(does[:-1]), does[-1]] if does[1:] else does)
    return (
        f"The drum bus's {listed} {'are' if does[1:] else 'is'} in the mix alone, not in the stems."
    )


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
