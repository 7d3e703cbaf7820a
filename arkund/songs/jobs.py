"""Long work as database rows with a heartbeat, run by Huey tasks.

The row tells what, how far and how long yet; the queue only says that there is something to do.
What a killed worker left running is taken up again when a worker starts.
"""

import logging
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import close_old_connections, transaction
from django.utils import timezone
from huey import RedisHuey, SqliteHuey

from arkund.core.errors import ArkundError
from arkund.core.mix.printing import PrintCancelled
from arkund.core.mix.sheet import Section
from arkund.songs import first_pass, importing, incoming, prints, set_up, storage
from arkund.songs.models import Job, Song, StagedFile

STALE_AFTER = timedelta(seconds=15)
logger = logging.getLogger("arkund.jobs")

if settings.REDIS_URL:
    queue = RedisHuey("arkund", url=settings.REDIS_URL, results=False)
else:
    queue = SqliteHuey("arkund", filename=str(settings.DATA / "queue.sqlite3"), results=False)


def enqueue(kind: str, song: Song | None, params: dict[str, Any]) -> Job:
    """Store a job and tell the workers once the row is there."""
    job = Job.objects.create(kind=kind, song=song, params=params, message="waiting for a worker")
    transaction.on_commit(lambda: run_job(job.pk))
    return job


def record(kind: str, song: Song, result: dict[str, Any]) -> Job:
    """Note work that was done without a worker, so that pages can show what came of it."""
    return Job.objects.create(
        kind=kind, song=song, state=Job.State.DONE, share=1.0, message="done", result=result
    )


def take_up_left_jobs() -> int:
    """Queue again what no worker is alive for. Called when a worker starts."""
    storage.sweep()
    stale = timezone.now() - STALE_AFTER
    left = Job.objects.filter(state=Job.State.RUNNING).exclude(heartbeat__gt=stale)
    left = list(left) + list(Job.objects.filter(state=Job.State.QUEUED))
    for job in left:
        Job.objects.filter(pk=job.pk).update(
            state=Job.State.QUEUED, share=0.0, message="taken up again after a restart"
        )
        run_job(job.pk)
    return len(left)


@queue.task()
def run_job(job_id: int) -> None:
    """Run one job to its end, whatever that is."""
    close_old_connections()
    taken = Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(
        state=Job.State.RUNNING,
        started=timezone.now(),
        heartbeat=timezone.now(),
        message="starting",
    )
    if not taken:
        return  # another worker has it, or it is over
    job = Job.objects.get(pk=job_id)
    report = _Reporter(job_id)
    try:
        with report:
            result = _KINDS[job.kind](job, report)
        Job.objects.filter(pk=job_id).update(
            state=Job.State.DONE, share=1.0, message="done", result=result
        )
    except (PrintCancelled, first_pass.PassCancelled) as error:
        Job.objects.filter(pk=job_id).update(state=Job.State.CANCELLED, message=str(error))
    except ArkundError as error:
        refused = getattr(error, "refused", [])
        Job.objects.filter(pk=job_id).update(
            state=Job.State.FAILED, message=str(error)[:500], result={"refused": refused}
        )
    except OSError as error:
        Job.objects.filter(pk=job_id).update(
            state=Job.State.FAILED,
            message=f"The disk did not take it: {error.strerror}. Free some space and try again.",
        )
    except Exception:
        logger.exception("job %s failed", job_id)
        Job.objects.filter(pk=job_id).update(
            state=Job.State.FAILED,
            message="Something went wrong that is not your doing; the worker's output says what.",
        )
    finally:
        close_old_connections()


class _Reporter:
    """Writes progress at most five times a second and a heartbeat every five seconds."""

    def __init__(self, job_id: int) -> None:
        self._job_id = job_id
        self._last = 0.0
        self._over = threading.Event()
        self._cancel = False

    def __enter__(self) -> "_Reporter":
        threading.Thread(target=self._beat, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()

    def _beat(self) -> None:
        while not self._over.wait(5.0):
            Job.objects.filter(pk=self._job_id).update(heartbeat=timezone.now())
        close_old_connections()

    def __call__(self, share: float, what: str = "") -> None:
        now = time.monotonic()
        if now - self._last < 0.2 and share < 1.0:
            return
        self._last = now
        values: dict[str, Any] = {"share": share, "heartbeat": timezone.now()}
        if what:
            values["message"] = what[:500]
        Job.objects.filter(pk=self._job_id).update(**values)
        self._cancel = Job.objects.filter(pk=self._job_id, cancel_asked=True).exists()

    def cancelled(self) -> bool:
        return self._cancel


def _print(job: Job, report: _Reporter) -> dict[str, Any]:
    song = job.song
    assert song is not None
    revision = song.revisions.get(number=job.params["revision"])
    report(0.0, "printing")
    with storage.song_lock(song.slug):
        made = prints.print_to_zip(
            song, revision, stems=job.params["stems"], file_format=job.params["format"],
            progress=report, cancelled=report.cancelled,
        )  # fmt: skip
    return {"print": made.pk, **made.report}


def _import(job: Job, report: _Reporter) -> dict[str, Any]:
    p = job.params
    staged = {s.name: s for s in StagedFile.objects.filter(token=p["token"], refusal="")}
    folder = storage.staging_folder(p["token"])
    files = [
        incoming.Incoming(
            folder / staged[f["name"]].stored, f["name"], f["mic"], f.get("take", 1),
            f.get("pick", "mono"),
        )
        for f in p["files"] if f["name"] in staged
    ]  # fmt: skip
    wishes = importing.Wishes(
        name=p["name"], tempo_bpm=p.get("tempo"), meter=p.get("meter") or "4/4",
        sections=tuple(Section(**s) for s in p.get("sections", [])),
        resample_hz=p.get("resample"), pad=bool(p.get("pad")),
    )  # fmt: skip
    song, _ = importing.import_song(files, wishes, progress=report)
    _forget_staging(p["token"], folder)
    return {"song": song.slug}


def _first_pass(job: Job, report: _Reporter) -> dict[str, Any]:
    song = job.song
    assert song is not None
    with storage.song_lock(song.slug):
        return first_pass.run(song, progress=report, cancelled=report.cancelled)


def _set_up(job: Job, report: _Reporter) -> dict[str, Any]:
    song, p = job.song, job.params
    assert song is not None
    folder = storage.staging_folder(p.get("token", ""))
    staged = {s.name: s for s in StagedFile.objects.filter(token=p.get("token", ""), refusal="")}
    files = tuple(
        incoming.Incoming(folder / staged[f["name"]].stored, f["name"], f["mic"], f["take"],
                          f["pick"])
        for f in p["files"] if f["name"] in staged
    )  # fmt: skip
    wanted = set_up.Wanted(p["names"], p["unused"], p["overdubs"], files)
    with storage.song_lock(song.slug):
        made = set_up.correct(song, p["base"], wanted, report)
    if p.get("token"):
        _forget_staging(p["token"], folder)
    return {"revision": made.number, "label": made.label}


def _forget_staging(token: str, folder: Path) -> None:
    StagedFile.objects.filter(token=token).delete()
    for path in folder.glob("*"):
        path.unlink(missing_ok=True)
    if folder.exists():
        folder.rmdir()


_KINDS: dict[str, Callable[[Job, _Reporter], dict[str, Any]]] = {
    "print": _print,
    "import": _import,
    "first-pass": _first_pass,
    "set-up": _set_up,
}
