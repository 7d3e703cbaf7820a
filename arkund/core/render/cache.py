"""Rendered tiles, in memory first and on a bounded part of the disk.

A tile's key holds everything it depends on, and its checksum stands before it, so an entry is
never wrong, only unneeded: the whole cache may be deleted at any time, and two processes may write
it at once.
"""

import contextlib
import io
import os
import queue
import threading
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.memory import Memory

MEMORY_BYTES = 512 << 20
SOURCE_BYTES = 384 << 20
DISK_BYTES = 2 << 30


def sealed(content: bytes) -> bytes:
    """Bytes with their checksum (CRC-32) before them."""
    return zlib.crc32(content).to_bytes(4, "big") + content


def unsealed(content: bytes) -> bytes | None:
    """The bytes that were `sealed`, or None where they are not what they were."""
    body = content[4:]
    return body if zlib.crc32(body) == int.from_bytes(content[:4], "big") else None


class Names:
    """Keys of spans by what they are keys of, so that each is hashed once. The older half is forgotten
    when there are too many: they are found again. Safe among threads."""

    def __init__(self, limit: int = 200_000) -> None:
        self._limit = limit
        self._names: dict[tuple[str, str, int, int], str] = {}

    def get(self, what: tuple[str, str, int, int], find: Callable[[], str]) -> str:
        """The key of ``what``, found where it is not known."""
        name = self._names.get(what)
        if name is None:
            name = find()
            if len(self._names) >= self._limit:
                for old in list(self._names)[: self._limit // 2]:
                    self._names.pop(old, None)
            self._names[what] = name
        return name

    def has(self, what: tuple[str, str, int, int]) -> bool:
        """Whether the key of ``what`` is known."""
        return what in self._names


class Broken(NamedTuple):
    """Where a node's sound is not a number: the processor of its chain, counted from 0 (-1: the node
    itself), and the first such sample of the song."""

    link: int
    at: int


MOST_BROKEN = 1000


class TileCache:
    """What was rendered, in memory and on disk; apart from it, in ``sources``, there is room for
    what was lately read from files, and in ``keys`` for the names of tiles. Safe among threads.

    ``broken`` lists the nodes whose sound is not a number, by key (`Engine` plays silence there).
    From then on nothing goes to disk, where what was made of that silence would outlive the list.
    """

    def __init__(self, memory_bytes: int = MEMORY_BYTES, disk: "DiskStore | None" = None) -> None:
        self._memory = Memory(memory_bytes)
        self.sources = Memory(SOURCE_BYTES)
        self.keys = Names()
        self.broken: dict[str, Broken] = {}
        self._lock = threading.Lock()
        self._building: dict[str, threading.RLock] = {}
        self._disk = disk

    def get(self, key: str, on_disk: bool = False) -> NDArray[Any] | None:
        found = self._memory.get(key)
        if found is None and on_disk and self._disk is not None:
            found = self._disk.get(key)
            if found is not None:
                self._memory.put(key, found)
        return found

    def put(self, key: str, value: NDArray[Any], on_disk: bool = False) -> None:
        self._memory.put(key, value)
        if on_disk and self._disk is not None and not self.broken:
            self._disk.put(key, value)

    def mark_broken(self, key: str, broken: Broken) -> None:
        """Note that a node's sound is not a number; the first place in the song is kept."""
        with self._lock:
            known = self.broken.get(key)
            if len(self.broken) < MOST_BROKEN and (known is None or broken.at < known.at):
                self.broken[key] = broken

    @contextlib.contextmanager
    def building(self, key: str) -> Iterator[None]:
        """Held while one thread renders ``key``, so that a second waits for it instead. A sum of one
        has the key of what it is a sum of, so the same thread may come twice."""
        with self._lock:
            lock = self._building.setdefault(key, threading.RLock())
        try:
            with lock:
                yield
        finally:
            with self._lock:
                self._building.pop(key, None)


class DiskStore:
    """Arrays as files under a folder, written in the background, trimmed by last use."""

    def __init__(self, folder: Path, limit_bytes: int = DISK_BYTES) -> None:
        self._folder = folder
        self._limit = limit_bytes
        self._waiting: queue.Queue[tuple[str, NDArray[Any]]] = queue.Queue(maxsize=64)
        self._written = 0
        threading.Thread(target=self._write_on, daemon=True).start()

    def _path(self, key: str) -> Path:
        return self._folder / key[:2] / f"{key}.npy"

    def get(self, key: str) -> NDArray[Any] | None:
        path = self._path(key)
        try:
            content = unsealed(path.read_bytes())
            if content is None:
                path.unlink()
                return None
            value: NDArray[Any] = np.load(io.BytesIO(content), allow_pickle=False)
            os.utime(path)
        except (OSError, ValueError):
            return None
        return value

    def put(self, key: str, value: NDArray[Any]) -> None:
        # A full queue means that the disk is slower than rendering: then it is not worth it.
        with contextlib.suppress(queue.Full):
            self._waiting.put_nowait((key, value))

    def _write_on(self) -> None:
        while True:
            key, value = self._waiting.get()
            path = self._path(key)
            part = path.with_suffix(f".{os.getpid()}.part")
            # A full or missing disk costs only time: the tile is rendered again.
            with contextlib.suppress(OSError), contextlib.ExitStack() as stack:
                stack.callback(part.unlink, missing_ok=True)
                path.parent.mkdir(parents=True, exist_ok=True)
                content = io.BytesIO()
                np.save(content, value)
                part.write_bytes(sealed(content.getvalue()))
                part.replace(path)
                self._written += value.nbytes
                if self._written > self._limit // 8:
                    self._written = 0
                    self.trim()

    def trim(self) -> None:
        """Delete what was not used for longest until the folder is within its limit."""
        files = []
        for path in self._folder.glob("*/*"):
            with contextlib.suppress(OSError):
                stat = path.stat()
                files.append((stat.st_mtime, stat.st_size, path))
        total = sum(size for _, size, _ in files)
        for _, size, path in sorted(files):
            if total <= self._limit:
                return
            path.unlink(missing_ok=True)
            total -= size
