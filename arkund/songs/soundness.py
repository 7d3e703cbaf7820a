"""Whether the files that a song rests on are there and hold what they held when they came in.

A sound is hashed once in a run of the program: in the background when a page first shows its
song, before the first sample of a print is written, and whenever a check is asked for.
"""

import logging
import threading
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from arkund.core.errors import ArkundError
from arkund.core.graph.laying import laid_out
from arkund.core.kit.roles import label
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.songs import storage

logger = logging.getLogger("arkund.soundness")

Stamp = tuple[int, int]


@dataclass(frozen=True)
class Lost:
    """A mic's file in one take that cannot be used: ``missing``, or else damaged."""

    mic: str
    take: int
    file_name: str
    missing: bool

    @property
    def words(self) -> str:
        state = "missing" if self.missing else "damaged"
        name = f" ({self.file_name})" if self.file_name else ""
        return (
            f"{label(self.mic)}, take {self.take}: the sound file{name} is {state}. Bring it "
            "in again at Load-in, or restore the media folder from a backup."
        )


class SoundsLost(ArkundError):
    """Files that a print or render needs and cannot use."""

    def __init__(self, lost: list[Lost]) -> None:
        self.lost = lost
        more = f" {len(lost) - 3} more files are missing or damaged." if len(lost) > 3 else ""
        super().__init__(" ".join(one.words for one in lost[:3]) + more)


_whole: dict[tuple[Path, Stamp], bool] = {}
"""What hashing said of a file as it stood: whether it is what its name says."""


def known(sheet: Sheet) -> list[Lost]:
    """What is known to be lost without reading any file, of all takes."""
    return _lost(sheet, lambda path: _whole.get((path, _stamp(path)), True))


def checked(sheet: Sheet) -> list[Lost]:
    """What is lost, every file hashed that was not in this run."""
    return _lost(sheet, _is_whole)


def refuse_lost(sheet: Sheet) -> None:
    """Raises `SoundsLost` where a file that sounds is missing or damaged."""
    takes = {s.take for s in laid_out(sheet)}
    sounding = {
        "takes": tuple(t for t in sheet.takes if t.number in takes),
        "mics": {n: m for n, m in sheet.mics.items() if not m.unused},
    }
    if lost := checked(sheet.model_copy(update=sounding)):
        raise SoundsLost(lost)


def _lost(sheet: Sheet, whole: Callable[[Path], bool]) -> list[Lost]:
    out = []
    for take in sheet.takes:
        for mic in mic_order(sheet):
            source = take.sources.get(mic)
            if source is None:
                continue
            path = storage.find_sound(source.sha256)
            try:
                fine = path is not None and whole(path)
            except OSError:
                fine, path = False, None
            if not fine:
                out.append(Lost(mic, take.number, sheet.mics[mic].file, path is None))
    return out


def _stamp(path: Path) -> Stamp:
    found = path.stat()
    return found.st_mtime_ns, found.st_size


def _is_whole(path: Path) -> bool:
    key = (path, _stamp(path))
    if key not in _whole:
        _whole[key] = storage.hash_of(path) == path.stem
        if not _whole[key]:
            logger.warning("%s has changed since it was brought in", path)
    return _whole[key]


_looking = threading.Lock()


def look(sheet: Sheet) -> None:
    """Check a sheet's files in the background; at once where all were checked in this run."""
    paths = {storage.find_sound(s.sha256) for t in sheet.takes for s in t.sources.values()}
    left = [p for p in paths if p is not None and (p, _stamp(p)) not in _whole]
    if left and _looking.acquire(blocking=False):
        threading.Thread(target=_look, args=(left,), name="soundness", daemon=True).start()


def _look(paths: list[Path]) -> None:
    try:
        for path in paths:
            try:
                _is_whole(path)
            except OSError:
                logger.warning("%s could not be read", path)
    finally:
        _looking.release()
