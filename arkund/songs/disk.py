"""What a full disk or a damaged database is called, whoever meets it first."""

import errno
import sqlite3

from django.conf import settings
from django.db import DatabaseError

FULL = (
    "The disk is full, so nothing was changed. Free some space on the disk that holds {data}, "
    "then try again."
)
READ_ONLY = "The data folder {data} cannot be written to. Check who may write there and try again."
DAMAGED = (
    "The database {data}/arkund.sqlite3 is damaged. Stop Arkund, then run “arkund restore” to go "
    "back to the last good copy; “arkund check” says what else is wrong."
)
HELD = "The database is held by another process for too long. Try again in a moment."


def disk_words(error: BaseException) -> str:
    """A sentence for an error of disk or database; empty where it is none."""
    words = ""
    if isinstance(error, OSError):
        words = _of_system(error)
    elif isinstance(error, (DatabaseError, sqlite3.Error)):
        words = _of_database(str(error))
    return words.format(data=settings.DATA)


def _of_system(error: OSError) -> str:
    if error.errno in (errno.ENOSPC, errno.EDQUOT):
        return FULL
    if error.errno in (errno.EROFS, errno.EACCES, errno.EPERM):
        return READ_ONLY
    if error.errno == errno.EIO:
        return "The disk reports a fault. Check it, and copy {data} to another one."
    return ""


def _of_database(text: str) -> str:
    if "disk is full" in text or "disk I/O error" in text:
        return FULL
    if "readonly" in text or "unable to open" in text:
        return READ_ONLY
    if "malformed" in text or "not a database" in text:
        return DAMAGED
    if "locked" in text:
        return HELD
    return ""
