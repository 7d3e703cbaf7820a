"""Files of the data folder: sound, hit lists and overviews by content hash; staging; prints."""

import hashlib
import io
import json
import os
import shutil
import threading
from collections import OrderedDict
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import asdict
from functools import lru_cache
from pathlib import Path
from typing import Any

import numpy as np
from django.conf import settings

from arkund.core.audio.files import MonoFile
from arkund.core.audio.overview import Overview
from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.render.cache import DiskStore, TileCache, sealed, unsealed
from arkund.core.sheet.lanes import Library
from arkund.core.timing.moves import EditList


class LostFile(ArkundError):
    """A stored file is missing or is not what it was."""


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
    """Copy a file into the media folder under its hash. A whole one that is there already is
    kept, a damaged one replaced."""
    target = new_sound_path(sha256, path.suffix.lower())
    if not target.exists() or hash_of(target) != sha256:
        target.parent.mkdir(parents=True, exist_ok=True)
        part = target.with_name(f"{target.name}.{os.getpid()}.part")
        try:
            shutil.copyfile(path, part)
            part.replace(target)
        finally:
            part.unlink(missing_ok=True)
    return target


def hash_of(path: Path) -> str:
    """SHA-256 of a file's content."""
    with path.open("rb") as stream:
        return hashlib.file_digest(stream, "sha256").hexdigest()


def new_sound_path(sha256: str, suffix: str) -> Path:
    """Where a sound of that content is to lie."""
    return data_folder() / "media" / "audio" / sha256[:2] / f"{sha256}{suffix}"


def sound_path(sha256: str) -> Path:
    """Path of a stored sound; raises `LostFile` where it is gone."""
    found = find_sound(sha256)
    if found is None:
        raise LostFile(
            "A sound file of this song is missing from the media folder. Bring the file in again "
            "at Load-in, or restore the media folder from a backup."
        )
    return found


def find_sound(sha256: str) -> Path | None:
    """Path of a stored sound, or None where it is gone."""
    folder = data_folder() / "media" / "audio" / sha256[:2]
    return next((p for p in folder.glob(f"{sha256}.*") if not p.name.endswith(".part")), None)


_sound_paths: dict[str, Path] = {}


def _known_sound_path(sha256: str) -> Path:
    """Where a sound lies, or would: whoever reads it says that it is gone, not whoever only draws
    up what is to be read."""
    if sha256 not in _sound_paths:
        found = find_sound(sha256)
        if found is None:
            return new_sound_path(sha256, ".wav")
        _sound_paths[sha256] = found
    return _sound_paths[sha256]


def store_hits(hits: Sequence[Hit]) -> str:
    """Store a hit list; returns its content hash."""
    text = json.dumps([asdict(h) for h in hits], separators=(",", ":"))
    digest = hashlib.sha256(text.encode()).hexdigest()
    write_atomically(_folder("media/hits") / f"{digest}.json", text.encode())
    return digest


@lru_cache(maxsize=32)
def load_hits(digest: str) -> tuple[Hit, ...]:
    """The hit list of a content hash; raises `LostFile` where it is gone or damaged."""
    return tuple(Hit(**entry) for entry in _load_list("hits", digest, "list of hits"))


def _load_list(folder: str, digest: str, what: str) -> Any:
    try:
        text = list_path(folder, digest).read_bytes()
    except FileNotFoundError:
        text = b""
    if hashlib.sha256(text).hexdigest() != digest:
        raise LostFile(
            f"A {what} of this song is {'damaged' if text else 'missing'} in the media folder. "
            "Restore the media folder from a backup, or go back to an earlier revision in the log."
        )
    return json.loads(text)


def list_path(folder: str, digest: str) -> Path:
    """Where a list of a content hash lies: ``hits``, ``analysis`` or ``edits``."""
    return data_folder() / "media" / folder / f"{digest}.json"


def store_analysis(analysis: dict[str, Any]) -> str:
    """Store what was measured in a take; returns its content hash."""
    text = json.dumps(analysis, separators=(",", ":"))
    digest = hashlib.sha256(text.encode()).hexdigest()
    write_atomically(_folder("media/analysis") / f"{digest}.json", text.encode())
    return digest


@lru_cache(maxsize=32)
def load_analysis(digest: str) -> dict[str, Any]:
    """The analysis of a content hash, not to be written to; raises `LostFile`."""
    found: dict[str, Any] = _load_list("analysis", digest, "list of measurements")
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
    path = list_path("edits", digest)
    if digest in _tried_edits and not path.exists():
        write_atomically(path, _edits_text(_tried_edits[digest]))


def load_edits(digest: str) -> EditList:
    """The edit list of a content hash, tried or kept."""
    return _tried_edits.get(digest) or _kept_edits(digest)


@lru_cache(maxsize=16)
def _kept_edits(digest: str) -> EditList:
    return EditList.from_dict(_load_list("edits", digest, "list of edits"))


def _edits_text(edits: EditList) -> bytes:
    return json.dumps(edits.as_dict(), separators=(",", ":")).encode()


def write_atomically(path: Path, content: bytes, *, durable: bool = True) -> None:
    """Write under a temporary name, then rename. What can be made again need not be ``durable``."""
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_name(f"{path.name}.{os.getpid()}.{threading.get_ident()}.part")
    try:
        with part.open("wb") as stream:
            stream.write(content)
            if durable:
                stream.flush()
                os.fsync(stream.fileno())
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)


def store_overview(sha256: str, pick: str, overview: Overview) -> None:
    content = io.BytesIO()
    np.save(content, overview.extremes)
    write_atomically(_overview_path(sha256, pick), sealed(content.getvalue()), durable=False)


@lru_cache(maxsize=256)
def load_overview(sha256: str, pick: str) -> Overview:
    """What waveforms are drawn from; made anew from the sound where it is gone or damaged."""
    try:
        content = unsealed(_overview_path(sha256, pick).read_bytes())
    except FileNotFoundError:
        content = None
    if content is None:
        made = Overview.of(MonoFile(sound_path(sha256), pick))
        store_overview(sha256, pick, made)
        return made
    return Overview(np.load(io.BytesIO(content), allow_pickle=False))


def _overview_path(sha256: str, pick: str) -> Path:
    return data_folder() / "media" / "overviews" / f"{sha256}-{pick}.npy"


def load_memo(key: str) -> str | None:
    """A remembered answer, or None. Safe to delete at any time."""
    try:
        content = unsealed(_memo_path(key).read_bytes())
    except FileNotFoundError:
        return None
    return None if content is None else content.decode()


def store_memo(key: str, text: str) -> None:
    """Remember an answer; a disk that does not take it costs only time."""
    with suppress(OSError):
        write_atomically(_memo_path(key), sealed(text.encode()), durable=False)


def _memo_path(key: str) -> Path:
    return data_folder() / "memo" / key[:2] / f"{key}.json"


def forget_made() -> None:
    """Remove what can be made again: another version may write it otherwise."""
    for name in ("cache", "memo", "media/overviews"):
        shutil.rmtree(data_folder() / name, ignore_errors=True)


def load_unlisted(digest: str) -> Mapping[str, Sequence[float]]:
    """What an analysis heard of each piece that its list of hits lacks, times in s."""
    found: Mapping[str, Sequence[float]] = load_analysis(digest).get("unlisted", {})
    return found


def library() -> Library:
    """Where rendering finds sounds and hit lists."""
    return Library(_known_sound_path, load_hits, load_edits, load_unlisted)


@lru_cache(maxsize=1)
def tile_cache() -> TileCache:
    """The process's one cache of rendered tiles."""
    return TileCache(disk=DiskStore(_folder("cache")))
