"""Print: stems and mix into a folder or a zip."""

from typing import Any, NamedTuple

from django.urls import path

from arkund.bench.stations.printing import views
from arkund.bench.stations.station import Asked, Shot, Station
from arkund.core.render.wish import FIELDS, KINDS, TAPS
from arkund.core.sheet.sheet import Sheet
from arkund.songs import prints
from arkund.songs.models import Job, Print
from arkund.songs.wording import value_words

SILENT_DBFS = -120.0
FORMATS = {
    "wav24": "24-bit WAV, dithered",
    "wav32f": "32-bit float WAV",
    "flac": "24-bit FLAC, dithered",
}


def _context(asked: Asked) -> dict[str, Any]:
    song = asked.song
    running = song.jobs.filter(kind="print").exclude(
        state__in=[Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    )
    last = prints.asked_last(song)
    assert song.current is not None
    return {
        "prints": [_row(made) for made in song.prints.select_related("revision")],
        "running": running.first(),
        "kinds": KINDS,
        "taps": TAPS,
        "formats": FORMATS,
        "fields": " ".join(f"{{{field}}}" for field in FIELDS),
        "asked": last,
        "forecast": prints.forecast(song, song.current, last["wish"], last["format"]),
        "drum_bus_words": _drum_bus_words(asked.sheet),
    }


class _Row(NamedTuple):
    """A print in the list: what its checks found wrong, or what they passed."""

    made: Print
    faults: list[str]
    passed: str


def _row(made: Print) -> _Row:
    stems = made.report.get("stems", [])
    # Prints of earlier versions hold what is over full scale alone.
    over = made.report.get("over") or {stem["file"]: stem["over"] for stem in stems if stem["over"]}
    faults = [f"{name}: {count} samples over full scale" for name, count in over.items()]
    faults += [f"{s['file']}: silent" for s in stems if s["peak_dbfs"] <= SILENT_DBFS]
    same = sum(stem["is_recording"] for stem in stems)
    passed = f"{same} of {len(stems)} are the recording" if same else "none over full scale"
    return _Row(made, faults, passed)


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
        path("<slug:slug>/print/forecast/", views.forecast, name="print-forecast"),
        path("<slug:slug>/print/start/", views.start, name="print-start"),
        path("<slug:slug>/print/report/", views.report, name="print-report"),
        path("<slug:slug>/print/<int:number>/", views.download, name="print-download"),
    ),
    has_findings=False,
    shots=(Shot("print", "mic=snare_top", after_pass=True),),
)
