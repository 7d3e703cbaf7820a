"""Who is at work on the data folder, across processes.

Each lock is a file that the kernel holds for a process and lets go of when it dies, however it
dies: nothing has to be timed out, and nobody is taken for alive who is not.
"""

import fcntl
import json
import os
import secrets
import socket
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import lru_cache
from pathlib import Path
from typing import IO, Any

from django.conf import settings

from arkund.core.errors import ArkundError


class Busy(ArkundError):
    """Another process is at work on the same thing; try again when it is done."""


class Taken(ArkundError):
    """The data folder is served already; says by whom."""


def _folder(name: str = "") -> Path:
    folder = Path(settings.DATA) / "locks" / name
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def _try(stream: IO[Any], kind: int = fcntl.LOCK_EX) -> bool:
    try:
        fcntl.flock(stream, kind | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True


@contextmanager
def song_lock(slug: str) -> Iterator[None]:
    """Held while a song is imported, printed or changed from the command line. Raises `Busy`
    where another process holds it."""
    with (_folder() / f"{slug}.lock").open("w") as stream:
        if not _try(stream):
            raise Busy(
                f"Another process is working on “{slug}”. Wait until it is done, then try again."
            )
        yield


@contextmanager
def storing() -> Iterator[None]:
    """Held by whoever stores files to which nothing refers yet. Any number may at once."""
    with (_folder() / "storing").open("a") as stream:
        fcntl.flock(stream, fcntl.LOCK_SH)
        yield


@contextmanager
def nobody_stores() -> Iterator[bool]:
    """Whether nobody is `storing` anywhere; if so, nobody begins to until this is left."""
    with (_folder() / "storing").open("a") as stream:
        yield _try(stream)


@contextmanager
def one_at_a_time(name: str) -> Iterator[None]:
    """Waits until no other process does the same."""
    with (_folder() / name).open("a") as stream:
        fcntl.flock(stream, fcntl.LOCK_EX)
        yield


_seats: dict[str, IO[str]] = {}


def take_seat(role: str, words: str) -> None:
    """Become the data folder's only ``serve`` or ``worker`` until this process ends; ``words`` say
    where. Raises `Taken` where another process is."""
    path = _folder() / f"{role}.seat"
    stream = path.open("a+")
    if not _try(stream):
        raise Taken(_who_has(path, role))
    stream.truncate(0)
    stream.write(json.dumps({"pid": os.getpid(), "words": words}))
    stream.flush()
    _seats[role] = stream


def refuse_taken_seat(role: str) -> None:
    """Raises `Taken` where another process has that seat."""
    path = _folder() / f"{role}.seat"
    with path.open("a+") as stream:
        if not _try(stream):
            raise Taken(_who_has(path, role))


def seat_is_taken(role: str) -> bool:
    """Whether some process has that seat."""
    with (_folder() / f"{role}.seat").open("a+") as stream:
        return not _try(stream)


def _who_has(path: Path, role: str) -> str:
    what = {"serve": "server", "worker": "worker"}[role]
    try:
        found = json.loads(path.read_text())
        who = f" It is process {int(found['pid'])}, {found['words']}."
    except (ValueError, KeyError, TypeError):
        who = ""
    return (
        f"Another {what} uses the data folder {settings.DATA} already.{who} Use that one, stop "
        "it, or set ARKUND_DATA to another folder."
    )


class Owner:
    """A process as others can ask after it: a file that it keeps locked until it ends."""

    def __init__(self) -> None:
        self.name = f"{socket.gethostname()[:24]}-{os.getpid()}-{secrets.token_hex(6)}"
        self._stream = (_folder("owners") / self.name).open("w")
        fcntl.flock(self._stream, fcntl.LOCK_EX)


@lru_cache(maxsize=1)
def _own(pid: int, folder: str) -> Owner:
    return Owner()


def own_name() -> str:
    """This process's name as an owner of work."""
    return _own(os.getpid(), str(settings.DATA)).name


def lives(owner: str) -> bool:
    """Whether the process of that name is still running."""
    path = _folder("owners") / Path(owner or "-").name
    try:
        with path.open("r+") as stream:
            return not _try(stream)
    except FileNotFoundError:
        return False


def forget_dead_owners() -> None:
    """Remove the files of processes that have ended; not of one that is just beginning."""
    for path in _folder("owners").iterdir():
        with suppress(FileNotFoundError):
            if time.time() - path.stat().st_mtime > 60 and not lives(path.name):
                path.unlink()
