"""What was lately made, within a number of bytes."""

import threading
from collections import OrderedDict
from typing import Any

from numpy.typing import NDArray


class Memory:
    """Arrays by key within a number of bytes, the least recently used forgotten first. Safe among
    threads."""

    def __init__(self, limit_bytes: int) -> None:
        self._limit = limit_bytes
        self._entries: OrderedDict[str, NDArray[Any]] = OrderedDict()
        self._bytes = 0
        self._lock = threading.Lock()

    def get(self, key: str) -> NDArray[Any] | None:
        with self._lock:
            found = self._entries.get(key)
            if found is not None:
                self._entries.move_to_end(key)
            return found

    def put(self, key: str, value: NDArray[Any]) -> None:
        with self._lock:
            old = self._entries.pop(key, None)
            self._bytes += value.nbytes - (old.nbytes if old is not None else 0)
            self._entries[key] = value
            while self._bytes > self._limit and len(self._entries) > 1:
                _, dropped = self._entries.popitem(last=False)
                self._bytes -= dropped.nbytes
