"""What was lately made of a sheet, for all that ask. A sheet is never changed in place, so the same
sheet gives the same."""

from collections import deque
from collections.abc import Callable
from threading import Lock
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray

from arkund.core.sheet.sheet import Sheet

KEPT = 16

T = TypeVar("T")

_made: deque[tuple[Sheet, str, Any]] = deque(maxlen=KEPT)
_lock = Lock()


def made(what: str, sheet: Sheet, make: Callable[[], T]) -> T:
    """What ``make`` gives, or gave lately for this very sheet under the name ``what``."""
    with _lock:
        for of, name, value in _made:
            if of is sheet and name == what:
                found: T = value
                return found
    value = make()
    with _lock:
        _made.append((sheet, what, value))
    return value


_named: deque[tuple[str, Any]] = deque(maxlen=KEPT)


def named(key: str, make: Callable[[], T]) -> T:
    """What ``make`` gives, or gave lately, by the name of what it rests on."""
    with _lock:
        for name, value in _named:
            if name == key:
                found: T = value
                return found
    value = make()
    with _lock:
        _named.append((key, value))
    return value


_heard: deque[tuple[str, NDArray[np.float32]]] = deque(maxlen=2)


def heard(key: str, read: Callable[[], NDArray[np.float32]]) -> NDArray[np.float32]:
    """A whole sound by the name of what it holds, not to be written to; the last two are kept."""
    with _lock:
        for name, sound in _heard:
            if name == key:
                return sound
    sound = read()
    with _lock:
        _heard.append((key, sound))
    return sound
