"""Memory of processes that render one sound after the other."""

import ctypes
from contextlib import suppress

KEPT_BYTES, LARGEST_BYTES = 256 << 20, 32 << 20
"""Freed memory that is held back, and the largest blocks that are made of it."""

_TRIM_THRESHOLD, _MMAP_THRESHOLD = -1, -3


def hold() -> None:
    """Have freed memory held for what is rendered next: on some machines a page of it that the
    system hands out anew costs as much as filling it, and a second of sound passes through
    thousands. glibc alone takes the advice."""
    with suppress(OSError, AttributeError):
        advise = ctypes.CDLL(None).mallopt
        advise(_TRIM_THRESHOLD, KEPT_BYTES)
        advise(_MMAP_THRESHOLD, LARGEST_BYTES)


def give_back() -> None:
    """Give freed memory back to the system, after work whose pieces are seldom of one size: what lies between
    them adds up to gigabytes in an hour of sound. glibc alone can."""
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)
