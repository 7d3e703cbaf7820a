"""Long work as database rows, run by Huey tasks.

The row is the truth: what, how far, whose. The queue only says that there is something to do; what
it loses is said again. Every worker looks every `LOOK_EVERY_S` for work that was left, by itself
or by another that has died, and takes it up, `MOST_ATTEMPTS` times at most."""

import importlib.util
import logging
import sqlite3
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.db import DatabaseError, close_old_connections, transaction
from django.db.models import F
from django.utils import timezone
from huey import RedisHuey, SqliteHuey

from arkund.core.errors import ArkundError
from arkund.core.render.press import PrintCancelled
from arkund.songs import backups, first_pass, locks
from arkund.songs.disk import disk_words
from arkund.songs.models import Job, Song
from arkund.songs.sweeping import AGE_S, START_AGE_S, sweep
from arkund.songs.working import KINDS, JobCancelled, Reporter

LOOK_EVERY_S = 2.0
SWEEP_EVERY_S = 1800.0
MOST_ATTEMPTS = 3
logger = logging.getLogger("arkund.jobs")


def _queue() -> SqliteHuey | RedisHuey:
    if settings.REDIS_URL:
        if importlib.util.find_spec("redis") is None:
            raise ImproperlyConfigured(
                "ARKUND_REDIS_URL is set, but the redis package is not installed: "
                "install arkund[redis], or unset it to queue work in SQLite."
            )
        return RedisHuey("arkund", url=settings.REDIS_URL, results=False)
    path = Path(settings.DATA) / "queue.sqlite3"
    try:
        return SqliteHuey("arkund", filename=str(path), results=False)
    except sqlite3.DatabaseError as error:
        if isinstance(error, sqlite3.OperationalError):
            raise
        # The rows are the truth: a queue that cannot be read is begun anew.
        logger.warning("the queue %s was damaged and is begun anew", path)
        for part in path.parent.glob(f"{path.name}*"):
            part.unlink()
        return SqliteHuey("arkund", filename=str(path), results=False)


queue = _queue()


def enqueue(kind: str, song: Song | None, params: dict[str, Any]) -> Job:
    """Store a job and tell the workers once the row is there."""
    job = Job.objects.create(kind=kind, song=song, params=params, message="waiting for a worker")
    transaction.on_commit(lambda: _tell(job.pk))
    return job


def _tell(job_id: int) -> None:
    """Say that there is something to do. Where the queue does not answer, the row waits: workers
    look for such rows themselves."""
    try:
        run_job(job_id)
    except Exception as error:
        logger.warning("job %s waits: the queue does not answer (%s)", job_id, error)


def waiting(kind: str) -> Job | None:
    """A job of a kind that is not over, if there is one."""
    over = [Job.State.DONE, Job.State.FAILED, Job.State.CANCELLED]
    return Job.objects.filter(kind=kind).exclude(state__in=over).first()


def record(kind: str, song: Song, result: dict[str, Any]) -> Job:
    """Note work that was done without a worker, so that pages can show what came of it."""
    return Job.objects.create(
        kind=kind, song=song, state=Job.State.DONE, share=1.0, message="done", result=result
    )


def take_up_left_jobs() -> int:
    """Queue again what nobody is at work on; how many jobs that were."""
    left = 0
    for job in Job.objects.filter(state=Job.State.RUNNING):
        mine = job.owner == locks.own_name()
        if job.pk in _under_way if mine else locks.lives(job.owner):
            continue
        here = Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, owner=job.owner)
        if job.cancel_asked:
            here.update(state=Job.State.CANCELLED, message="Cancelled after it was cut off.")
        elif job.attempts >= MOST_ATTEMPTS:
            here.update(
                state=Job.State.FAILED,
                message=f"It was cut off {job.attempts} times and is not tried again. Start it "
                "again if you know why; the worker's output may say.",
            )
        elif here.update(state=Job.State.QUEUED, share=0.0, message="taken up again"):
            left += 1
    waiting = Job.objects.filter(state=Job.State.QUEUED).values_list("pk", flat=True)
    if waiting and not queue.pending_count():
        for pk in waiting:
            _tell(pk)
    return left


def sweep_at_start() -> None:
    """Remove what killed imports left, as soon as a worker is there again."""
    try:
        sweep(age_s=START_AGE_S, uploads_s=AGE_S)
    except Exception as error:
        logger.warning("sweeping failed and is tried again: %s", error)


def keep_watch(over: threading.Event) -> None:
    """Take up left jobs, sweep, and keep copies of the database, until ``over``. Nothing that
    fails in it ends it."""
    sweep_at_start()
    duties: dict[Callable[[], object], float] = {
        take_up_left_jobs: LOOK_EVERY_S,
        sweep: SWEEP_EVERY_S,
        backups.keep_copy: backups.EVERY_S,
    }
    due = dict.fromkeys(duties, 0.0)
    while not over.wait(0.5):
        close_old_connections()
        for duty, every in duties.items():
            if time.monotonic() >= due[duty]:
                try:
                    duty()
                except Exception as error:
                    name = getattr(duty, "__name__", "a duty")
                    logger.warning("%s failed and is tried again: %s", name, error)
                due[duty] = time.monotonic() + every


def cancel(job: Job) -> None:
    """Ask a job to stop; one that nobody runs is over at once."""
    Job.objects.filter(pk=job.pk).update(cancel_asked=True)
    Job.objects.filter(pk=job.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Cancelled before it began."
    )
    if job.state == Job.State.RUNNING and not locks.lives(job.owner):
        Job.objects.filter(pk=job.pk, state=Job.State.RUNNING, owner=job.owner).update(
            state=Job.State.CANCELLED, message="Cancelled after it was cut off."
        )


def somebody_works() -> bool:
    """Whether any worker is running on the data folder; of those on Redis it is not known."""
    return bool(settings.REDIS_URL) or locks.seat_is_taken("worker")


_under_way: set[int] = set()
"""Jobs that this process is running."""


@queue.task()
def run_job(job_id: int) -> None:
    """Run one job to its end, whatever that is."""
    close_old_connections()
    _under_way.add(job_id)
    try:
        if _claim(job_id):
            _settle(job_id, _run(job_id))
    finally:
        _under_way.discard(job_id)
        close_old_connections()


def _claim(job_id: int) -> bool:
    """Make a waiting job this process's; False where another worker has it, or it is over."""
    return bool(
        Job.objects.filter(pk=job_id, state=Job.State.QUEUED).update(
            state=Job.State.RUNNING,
            owner=locks.own_name(),
            attempts=F("attempts") + 1,
            started=timezone.now(),
            message="starting",
        )
    )


def _run(job_id: int) -> dict[str, Any]:
    """Do the work; what becomes of the row."""
    job = Job.objects.get(pk=job_id)
    report = Reporter(job_id)
    try:
        result = KINDS[job.kind](job, report)
        return {"state": Job.State.DONE, "share": 1.0, "message": "done", "result": result}
    except locks.Busy as error:
        # Not begun: it does not count, and is told again by whoever keeps watch.
        return {
            "state": Job.State.QUEUED,
            "attempts": job.attempts - 1,
            "message": str(error)[:500],
        }
    except (PrintCancelled, first_pass.PassCancelled, JobCancelled) as error:
        return {"state": Job.State.CANCELLED, "message": str(error)}
    except ArkundError as error:
        refused = getattr(error, "refused", [])
        return _failed(str(error)) | {"result": {"refused": refused}}
    except (OSError, DatabaseError) as error:
        logger.exception("job %s failed", job_id)
        return _failed(disk_words(error) or _NOT_YOURS)
    except Exception:
        logger.exception("job %s failed", job_id)
        return _failed(_NOT_YOURS)


_NOT_YOURS = "Something went wrong that is not your doing; the worker's output says what."


def _failed(words: str) -> dict[str, Any]:
    return {"state": Job.State.FAILED, "message": words[:500]}


def _settle(job_id: int, values: dict[str, Any]) -> None:
    """Write what became of a job. A full disk may give way; else the job counts as left."""
    for wait_s in (0.2, 1.0, 3.0, 0.0):
        try:
            Job.objects.filter(pk=job_id, owner=locks.own_name()).update(**values)
            return
        except DatabaseError as error:
            logger.warning("job %s: its end could not be written: %s", job_id, error)
            close_old_connections()
            time.sleep(wait_s)
