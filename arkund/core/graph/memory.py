"""What was lately made, within a number of bytes."""

import threading
from typing import Any

from cachetools import LRUCache
from numpy.typing import NDArray


class Memory:
    """Arrays by key within a number of bytes, the least recently used forgotten first; one that is larger
    than all of it is not kept. Safe among threads."""

    def __init__(self, limit_bytes: int) -> None:
        self._entries: LRUCache[str, NDArray[Any]] = LRUCache(limit_bytes, lambda a: a.nbytes)
        self._lock = threading.Lock()

    def get(self, key: str) -> NDArray[Any] | None:
        with self._lock:
            return self._entries.get(key)

    def put(self, key: str, value: NDArray[Any]) -> None:
        with self._lock:
            if value.nbytes <= self._entries.maxsize:
                self._entries[key] = value
