"""What was lately made, for all that ask: of a sheet, under a name, and whole sounds. A sheet is never
changed in place, so the same sheet gives the same."""

from collections.abc import Callable, Hashable
from threading import Lock
from typing import Any, TypeVar

import numpy as np
from cachetools import LRUCache
from numpy.typing import NDArray

from arkund.core.sheet.sheet import Sheet

KEPT, KEPT_SOUNDS = 16, 2

T = TypeVar("T")


class _Lately:
    """The last few values by what they are of. A value is made outside the lock: whoever asks meanwhile
    makes it, too, rather than wait."""

    def __init__(self, kept: int) -> None:
        self._values: LRUCache[Hashable, Any] = LRUCache(kept)
        self._lock = Lock()

    def get(self, of: Hashable, make: Callable[[], T]) -> T:
        with self._lock:
            if of in self._values:
                found: T = self._values[of]
                return found
        value = make()
        with self._lock:
            self._values[of] = value
        return value

    def __len__(self) -> int:
        return len(self._values)

    def clear(self) -> None:
        """Forget all of it."""
        with self._lock:
            self._values.clear()


class _Of:
    """A sheet as part of a key: the very same one, which is kept as long as the key is. Comparing two
    sheets value by value takes longer than most of what is asked for."""

    def __init__(self, sheet: Sheet) -> None:
        self._sheet = sheet

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Of) and other._sheet is self._sheet

    def __hash__(self) -> int:
        return id(self._sheet)


_made, _named, _heard = _Lately(KEPT), _Lately(KEPT), _Lately(KEPT_SOUNDS)


def made(what: str, sheet: Sheet, make: Callable[[], T]) -> T:
    """What ``make`` gives, or gave lately for this very sheet under the name ``what``."""
    return _made.get((_Of(sheet), what), make)


def named(key: str, make: Callable[[], T]) -> T:
    """A value under a key: a recent one, or what ``make`` returns now."""
    return _named.get(key, make)


def heard(key: str, read: Callable[[], NDArray[np.float32]]) -> NDArray[np.float32]:
    """A whole sound by the name of what it holds, not to be written to; the last two are kept."""
    return _heard.get(key, read)
