"""Settings from a file: what a sheet sets otherwise, to choose from."""

from typing import Any

from django.urls import path

from arkund.bench.stations.sheet_in import views
from arkund.bench.stations.station import Asked, Station
from arkund.songs import sheet_in


def _context(asked: Asked) -> dict[str, Any]:
    """What the file sets that was brought; nothing before there is one."""
    kept = views.kept(asked.named("token"))
    if kept is None:
        return {"token": ""}
    path, name = kept
    theirs = sheet_in.read(path, name)
    return {
        "token": asked.named("token"),
        "name": name,
        "offers": sheet_in.offers(asked.song, theirs, name),
    }


STATION = Station(
    room="sheet_in",
    slug="settings-from-file",
    title="Settings from a file",
    context=_context,
    addresses=(
        path("<slug:slug>/sheet.json", views.save, name="sheet-save"),
        path("<slug:slug>/settings-from-file/bring/", views.bring, name="sheet-bring"),
        path("<slug:slug>/settings-from-file/take/", views.take, name="sheet-take"),
    ),
    has_script=False,
    has_findings=False,
)
