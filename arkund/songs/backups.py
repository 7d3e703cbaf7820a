"""Rotating copies of the database, made through SQLite's own backup, and the way back to one.

The five newest copies are kept, and the last of each of the seven days before them.
"""

import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from django.conf import settings

from arkund.core.errors import ArkundError
from arkund.songs import locks

EVERY_S = 600.0
NEWEST = 5
DAYS = 7
_PATTERN = "%Y%m%d-%H%M%S"


def database() -> Path:
    """The database's file."""
    return Path(settings.DATABASES["default"]["NAME"])


def _folder() -> Path:
    return Path(settings.DATA) / "backups"


def copies() -> list[Path]:
    """All copies, the newest first."""
    return sorted(_folder().glob("arkund-*.sqlite3"), reverse=True)


def keep_copy(*, always: bool = False) -> Path | None:
    """Copy the database if it has changed since the last copy, and drop copies that are no longer
    kept. A damaged database is never copied: it would push out good ones."""
    source = database()
    if not source.exists() or (not always and not _changed_since_copy()):
        return None
    if complaints(source):
        return None
    _folder().mkdir(mode=0o700, exist_ok=True)
    target = _folder() / f"arkund-{datetime.now(UTC).strftime(_PATTERN)}.sqlite3"
    part = target.with_name(f"{target.name}.{os.getpid()}.part")
    try:
        with (
            closing(sqlite3.connect(f"file:{source}?mode=ro", uri=True, timeout=20)) as live,
            closing(sqlite3.connect(part)) as copy,
        ):
            live.backup(copy, pages=1000)
        part.chmod(0o600)
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)
    for old in set(copies()) - set(_kept()):
        old.unlink(missing_ok=True)
    return target


def _changed_since_copy() -> bool:
    newest = next(iter(copies()), None)
    if newest is None:
        return True
    made = newest.stat().st_mtime
    files = (database(), database().with_name(f"{database().name}-wal"))
    return any(f.exists() and f.stat().st_mtime > made for f in files)


def _kept() -> Iterator[Path]:
    days: set[str] = set()
    for number, copy in enumerate(copies()):
        day = copy.name[len("arkund-") :][:8]
        if number < NEWEST or (day not in days and len(days) < DAYS):
            yield copy
        days.add(day)


def complaints(path: Path) -> list[str]:
    """What SQLite finds wrong with a database file; nothing where it is whole or not there."""
    if not path.exists():
        return []
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=20)) as db:
            rows = [row[0] for row in db.execute("PRAGMA integrity_check(20)")]
    except sqlite3.DatabaseError as error:
        return [str(error)]
    return [] if rows == ["ok"] else rows


def restore(name: str = "") -> tuple[Path, Path | None]:
    """Put the newest whole copy, or the one of that name, in the database's place.

    Returns the copy and where the present database was moved to. Raises `ArkundError` where
    Arkund is running on the folder or there is no whole copy.
    """
    for role in ("serve", "worker"):
        locks.refuse_taken_seat(role)
    chosen = [c for c in copies() if not name or c.name == name]
    copy = next((c for c in chosen if not complaints(c)), None)
    if copy is None:
        known = ", ".join(c.name for c in copies()) or "none"
        raise ArkundError(f"There is no whole copy {name or 'of the database'}. Copies: {known}.")
    here = database()
    aside = None
    stamp = datetime.now(UTC).strftime(_PATTERN)
    for suffix in ("", "-wal", "-shm"):
        part = here.with_name(here.name + suffix)
        if part.exists():
            moved = here.with_name(f"replaced-{stamp}.sqlite3{suffix}")
            part.replace(moved)
            aside = aside or moved
    made = here.with_name(f"{here.name}.{os.getpid()}.part")
    made.write_bytes(copy.read_bytes())
    made.chmod(0o600)
    made.replace(here)
    return copy, aside


def age_words(copy: Path) -> str:
    """How long ago a copy was made, in words."""
    minutes = max(time.time() - copy.stat().st_mtime, 0) / 60
    if minutes < 120:
        return f"{minutes:.0f} minutes ago"
    return f"{minutes / 60:.0f} hours ago" if minutes < 2880 else f"{minutes / 1440:.0f} days ago"
