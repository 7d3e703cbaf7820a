"""Files of the data folder: sound, hit lists and overviews by content hash; staging; prints."""

import fcntl
import hashlib
import json
import os
import shutil
import threading
import time
from collections import OrderedDict
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings

from arkund.core.audio.overview import Overview
from arkund.core.errors import ArkundError
from arkund.core.hits.detect import Hit
from arkund.core.mix.cache import DiskStore, TileCache
from arkund.core.mix.graph import Library
from arkund.core.timing.moves import EditList

MEMO_DAYS = 60
"""Remembered findings are forgotten after so many days; they are counted again when asked for."""


def data_folder() -> Path:
    return Path(settings.DATA)


def _folder(name: str) -> Path:
    folder = data_folder() / name
    folder.mkdir(parents=True, exist_ok=True)
    return folder


def staging_folder(token: str) -> Path:
    """Where the uploads of one new song wait."""
    return _folder("staging") / hashlib.sha1(token.encode()).hexdigest()


def prints_folder(slug: str) -> Path:
    return _folder("prints") / slug


def store_sound(path: Path, sha256: str) -> Path:
    """Copy a file into the media folder under its hash; a file already there is kept."""
    target = sound_path(sha256, path.suffix.lower())
    if not target.exists():
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_name(f"{target.name}.{os.getpid()}.part")
        shutil.copyfile(path, part)
        part.replace(target)
    return target


def sound_path(sha256: str, suffix: str | None = None) -> Path:
    """Path of a stored sound; raises `ArkundError` where it is gone."""
    folder = data_folder() / "media" / "audio" / sha256[:2]
    if suffix is not None:
        return folder / f"{sha256}{suffix}"
    found = next((p for p in folder.glob(f"{sha256}.*") if not p.name.endswith(".part")), None)
    if found is None:
        raise ArkundError(
            "A sound file of this song is missing from the media folder; restore it from a backup."
        )
    return found


@lru_cache(maxsize=512)
def _known_sound_path(sha256: str) -> Path:
    return sound_path(sha256)


def store_hits(hits: Sequence[Hit]) -> str:
    """Store a hit list; returns its content hash."""
    text = json.dumps([asdict(h) for h in hits], separators=(",", ":"))
    digest = hashlib.sha256(text.encode()).hexdigest()
    write_atomically(_folder("media/hits") / f"{digest}.json", text.encode())
    return digest


@lru_cache(maxsize=32)
def load_hits(digest: str) -> tuple[Hit, ...]:
    """The hit list of a content hash."""
    text = (data_folder() / "media" / "hits" / f"{digest}.json").read_text()
    return tuple(Hit(**entry) for entry in json.loads(text))


def store_analysis(analysis: dict[str, Any]) -> str:
    """Store what was measured in a take; returns its content hash."""
    text = json.dumps(analysis, separators=(",", ":"))
    digest = hashlib.sha256(text.encode()).hexdigest()
    write_atomically(_folder("media/analysis") / f"{digest}.json", text.encode())
    return digest


@lru_cache(maxsize=32)
def load_analysis(digest: str) -> dict[str, Any]:
    """The analysis of a content hash, not to be written to."""
    text = (data_folder() / "media" / "analysis" / f"{digest}.json").read_text()
    found: dict[str, Any] = json.loads(text)
    return found


_tried_edits: OrderedDict[str, EditList] = OrderedDict()
TRIED_EDITS = 32


def name_edits(edits: EditList, name: str | None = None) -> str:
    """The content hash of an edit list, which is held in memory until it is kept; or the ``name``
    of one that never will be."""
    digest = name or hashlib.sha256(_edits_text(edits)).hexdigest()
    _tried_edits[digest] = edits
    while len(_tried_edits) > TRIED_EDITS:
        _tried_edits.popitem(last=False)
    return digest


def keep_edits(digest: str) -> None:
    """Store an edit list that was tried; nothing is to be done for one that is stored."""
    if digest in _tried_edits:
        write_atomically(_edits_path(digest), _edits_text(_tried_edits[digest]))


def load_edits(digest: str) -> EditList:
    """The edit list of a content hash, tried or kept."""
    return _tried_edits.get(digest) or _kept_edits(digest)


@lru_cache(maxsize=16)
def _kept_edits(digest: str) -> EditList:
    return EditList.from_dict(json.loads(_edits_path(digest).read_text()))


def _edits_text(edits: EditList) -> bytes:
    return json.dumps(edits.as_dict(), separators=(",", ":")).encode()


def _edits_path(digest: str) -> Path:
    return data_folder() / "media" / "edits" / f"{digest}.json"


def write_atomically(path: Path, content: bytes) -> None:
    """Write under a temporary name, then rename."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    with part.open("wb") as stream:
        stream.write(content)
        stream.flush()
        os.fsync(stream.fileno())
    part.replace(path)


def store_overview(sha256: str, pick: str, overview: Overview) -> None:
    path = _overview_path(sha256, pick)
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    with part.open("wb") as stream:
        np.save(stream, overview.extremes)
    part.replace(path)


@lru_cache(maxsize=256)
def load_overview(sha256: str, pick: str) -> Overview:
    return Overview(np.load(_overview_path(sha256, pick), allow_pickle=False))


def _overview_path(sha256: str, pick: str) -> Path:
    return data_folder() / "media" / "overviews" / f"{sha256}-{pick}.npy"


def load_memo(key: str) -> str | None:
    """A remembered answer, or None. Safe to delete at any time."""
    path = data_folder() / "memo" / key[:2] / f"{key}.json"
    try:
        return path.read_text()
    except FileNotFoundError:
        return None


def store_memo(key: str, text: str) -> None:
    path = data_folder() / "memo" / key[:2] / f"{key}.json"
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{key}.{os.getpid()}.{threading.get_ident()}.part")
    part.write_text(text)
    part.replace(path)


def library() -> Library:
    """Where rendering finds sounds and hit lists."""
    return Library(path_of=_known_sound_path, hits_of=load_hits, edits_of=load_edits)


@lru_cache(maxsize=1)
def tile_cache() -> TileCache:
    """The process's one cache of rendered tiles."""
    return TileCache(disk=DiskStore(_folder("cache")))


@contextmanager
def song_lock(slug: str) -> Iterator[None]:
    """Held while a song is imported, printed or changed from the command line. Raises
    `ArkundError` where another process holds it."""
    path = _folder("locks") / f"{slug}.lock"
    with path.open("w") as stream:
        try:
            fcntl.flock(stream, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise ArkundError(
                f"Another process is working on “{slug}”. Wait until it is done, then try again."
            ) from None
        yield


def sweep() -> None:
    """Remove what a killed process left: temporary files and half-written prints."""
    for path in data_folder().glob("media/**/*.part"):
        path.unlink(missing_ok=True)
    old = time.time() - MEMO_DAYS * 86400
    for path in data_folder().glob("memo/*/*"):
        if path.name.endswith(".part") or path.stat().st_mtime < old:
            path.unlink(missing_ok=True)
    for path in data_folder().glob("prints/*/*"):
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        elif path.name.endswith(".part"):
            path.unlink(missing_ok=True)
