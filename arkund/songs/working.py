"""What each kind of job does, and telling how far it is."""

import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from django.db import DatabaseError

from arkund.core.errors import ArkundError
from arkund.core.sheet.sheet import Section
from arkund.songs import (
    demo,
    first_pass,
    importing,
    incoming,
    locks,
    outboard,
    prints,
    set_up,
    storage,
)
from arkund.songs.models import Job, StagedFile


class JobCancelled(ArkundError):
    """Stopped by the engineer before anything was written."""

    def __init__(self) -> None:
        super().__init__("Cancelled; nothing was changed.")


class Reporter:
    """Writes progress at most five times a second."""

    def __init__(self, job_id: int) -> None:
        self._job_id = job_id
        self._last = 0.0
        self._cancel = False

    def _write(self, **values: Any) -> None:
        # Progress is worth no failure.
        with suppress(DatabaseError):
            Job.objects.filter(pk=self._job_id).update(**values)

    def __call__(self, share: float, what: str = "") -> None:
        now = time.monotonic()
        if now - self._last < 0.2 and share < 1.0:
            return
        self._last = now
        values: dict[str, Any] = {"share": share}
        if what:
            values["message"] = what[:500]
        self._write(**values)
        with suppress(DatabaseError):
            self._cancel = Job.objects.filter(pk=self._job_id, cancel_asked=True).exists()

    def cancelled(self) -> bool:
        return self._cancel

    def or_stop(self, share: float, what: str = "") -> None:
        """Progress of work that can be left at any step: raises `JobCancelled` when asked to."""
        self(share, what)
        if self._cancel:
            raise JobCancelled


def _print(job: Job, report: Reporter) -> dict[str, Any]:
    song = job.song
    assert song is not None
    revision = song.revisions.get(number=job.params["revision"])
    report(0.0, "printing")
    with locks.song_lock(song.slug):
        made = prints.print_to_zip(
            song,
            revision,
            wish=prints.wish_of(job.params),
            file_format=job.params["format"],
            progress=report,
            cancelled=report.cancelled,
        )
    return {"print": made.pk, **made.report}


def _import(job: Job, report: Reporter) -> dict[str, Any]:
    p = job.params
    staged = {s.name: s for s in StagedFile.objects.filter(token=p["token"], refusal="")}
    folder = storage.staging_folder(p["token"])
    files = [
        incoming.Incoming(
            folder / staged[f["name"]].stored,
            f["name"],
            f["mic"],
            incoming.take_number(f["name"]),
            f.get("pick", "mono"),
        )
        for f in p["files"]
        if f["name"] in staged
    ]
    wishes = importing.Wishes(
        name=p["name"],
        tempo_bpm=p.get("tempo"),
        meter=p.get("meter") or "4/4",
        sections=tuple(Section(**s) for s in p.get("sections", [])),
        resample_hz=p.get("resample"),
        pad=bool(p.get("pad")),
    )
    song, _ = importing.import_song(files, wishes, progress=report.or_stop)
    _forget_staging(p["token"], folder)
    return {"song": song.slug}


def _first_pass(job: Job, report: Reporter) -> dict[str, Any]:
    song = job.song
    assert song is not None
    with locks.song_lock(song.slug):
        without = frozenset(job.params.get("without", []))
        return first_pass.run(song, without=without, progress=report, cancelled=report.cancelled)


def _preview(job: Job, report: Reporter) -> dict[str, Any]:
    song = job.song
    assert song is not None
    return first_pass.preview(song, progress=report.or_stop)


def _set_up(job: Job, report: Reporter) -> dict[str, Any]:
    song, p = job.song, job.params
    assert song is not None
    folder = storage.staging_folder(p.get("token", ""))
    staged = {s.name: s for s in StagedFile.objects.filter(token=p.get("token", ""), refusal="")}
    files = tuple(
        incoming.Incoming(
            folder / staged[f["name"]].stored, f["name"], f["mic"], f["take"], f["pick"]
        )
        for f in p["files"]
        if f["name"] in staged
    )
    wanted = set_up.Wanted(p["names"], p["unused"], p["overdubs"], files)
    with locks.song_lock(song.slug):
        made = set_up.correct(song, p["base"], wanted, report.or_stop)
    if p.get("token"):
        _forget_staging(p["token"], folder)
    return {"revision": made.number, "label": made.label}


def _outboard(job: Job, report: Reporter) -> dict[str, Any]:
    song, p = job.song, job.params
    assert song is not None
    with locks.song_lock(song.slug):
        song.refresh_from_db()
        if "box" in p:
            box = outboard.BOXES[p["box"]]
            return outboard.through_box(
                song, p["node"], box, instead=p["instead"], progress=report.or_stop
            ).as_dict()
        folder = storage.staging_folder(p["token"])
        try:
            return outboard.bring_back(
                song,
                p["base"],
                song.sendings.get(pk=p["sending"]),
                folder / "return",
                p["name"],
                instead=p["instead"],
                progress=report.or_stop,
            ).as_dict()
        finally:
            _forget_staging(p["token"], folder)


def _forget_staging(token: str, folder: Path) -> None:
    StagedFile.objects.filter(token=token).delete()
    for path in folder.glob("*"):
        path.unlink(missing_ok=True)
    if folder.exists():
        folder.rmdir()


def _demo(job: Job, report: Reporter) -> dict[str, Any]:
    return {"song": demo.make_demo(report)}


KINDS: dict[str, Callable[[Job, Reporter], dict[str, Any]]] = {
    "print": _print,
    "import": _import,
    "demo": _demo,
    "first-pass": _first_pass,
    "first-pass-preview": _preview,
    "set-up": _set_up,
    "outboard": _outboard,
}
