"""Removing what nothing refers to: left by failed or killed imports, uploads and prints.

A file goes when neither a revision nor the stock names it and it is older than `AGE_S`; a running import's own are
younger, and while anybody stores files (`locks.storing`) none is looked at at all. A disk that
refuses a deletion stops nothing.
"""

import re
import time
import zlib
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from django.utils import timezone

from arkund.songs import locks, storage
from arkund.songs.models import Job, Print, Revision, SampleSet, StagedFile

AGE_S = 3600.0
START_AGE_S = 30.0
"""At a worker's start less is enough: what stores lives holds `locks.storing`, and what writes a
temporary file is done with it in seconds."""

STAGING_S = 86400.0
"""An upload may wait for a day to become a song."""

MEMO_DAYS = 60
"""Remembered findings are forgotten after so many days; they are counted again when asked for."""


class UnreadableRevision(Exception):
    """A revision is damaged, so what it names is not known."""


_HASH = re.compile(rb'"([0-9a-f]{64})"')


@dataclass
class Swept:
    """How many files were removed, or would be, and their size in bytes."""

    files: int = 0
    size: int = 0

    def add(self, path: Path, *, only_look: bool) -> None:
        with suppress(OSError):
            size = path.stat().st_size
            if not only_look:
                path.unlink()
            self.files, self.size = self.files + 1, self.size + size


def sweep(
    age_s: float = AGE_S,
    staging_s: float = STAGING_S,
    *,
    uploads_s: float | None = None,
    only_look: bool = False,
) -> Swept:
    """Remove what nothing refers to and is older than ``age_s`` (uploads under way: ``uploads_s``;
    those that wait for a song: ``staging_s``). With ``only_look`` nothing is removed, only counted."""
    swept = Swept()
    for path in [
        *_parts(age_s),
        *_uploads(age_s if uploads_s is None else uploads_s),
        *_staged(staging_s, only_look=only_look),
        *_memos(),
        *_scratch(age_s),
        *_prints(age_s),
    ]:
        swept.add(path, only_look=only_look)
    with locks.nobody_stores() as alone:
        if alone:
            with suppress(UnreadableRevision):
                for path in _unnamed(age_s):
                    swept.add(path, only_look=only_look)
    if not only_look:
        _empty_folders()
        locks.forget_dead_owners()
    return swept


@contextmanager
def storing() -> Iterator[list[str]]:
    """While files are stored to which nothing refers yet: nobody sweeps, and what was noted in the
    list is removed again where it fails."""
    stored: list[str] = []
    try:
        with locks.storing():
            yield stored
    except BaseException:
        forget(stored)
        raise


def forget(hashes: Iterable[str]) -> None:
    """Remove stored sounds at once which no revision names, unless somebody else may be about to
    name them. For an import that failed."""
    with locks.nobody_stores() as alone:
        if not alone:
            return
        try:
            named = _named()
        except UnreadableRevision:
            return
        for digest in set(hashes) - named:
            for path in [storage.find_sound(digest), *_overviews(digest)]:
                if path is not None:
                    with suppress(OSError):
                        path.unlink()


def unreferenced() -> list[Path]:
    """Stored files that no revision names, whatever their age."""
    return list(_unnamed(0.0))


def _older(paths: Iterable[Path], age_s: float) -> Iterator[Path]:
    before = time.time() - age_s
    for path in paths:
        with suppress(OSError):
            if path.is_file() and path.stat().st_mtime <= before:
                yield path


def _parts(age_s: float) -> Iterator[Path]:
    """Temporary files of writers that never came to their end."""
    return _older(storage.data_folder().rglob("*.part"), age_s)


def _uploads(age_s: float) -> Iterator[Path]:
    return _older((storage.data_folder() / "uploads").glob("*"), age_s)


def _staged(age_s: float, *, only_look: bool) -> list[Path]:
    """Uploads that wait for no song any more: too old, or without a row."""
    wanted = {
        job.params.get("token")
        for job in Job.objects.filter(
            state__in=(Job.State.QUEUED, Job.State.RUNNING), kind__in=("import", "set-up")
        )
    }
    old = StagedFile.objects.filter(created__lte=timezone.now() - timedelta(seconds=age_s))
    gone = set(old.exclude(token__in=wanted).values_list("token", flat=True))
    if not only_look:
        StagedFile.objects.filter(token__in=gone).delete()
    kept = {
        (storage.staging_folder(s.token), s.stored)
        for s in StagedFile.objects.exclude(token__in=gone)
    }
    files = (storage.data_folder() / "staging").glob("*/*")
    return [p for p in _older(files, min(age_s, AGE_S)) if (p.parent, p.name) not in kept]


def _scratch(age_s: float) -> Iterator[Path]:
    """What lies in temporary folders of backups and outboard whose process was killed."""
    return _older(storage.data_folder().glob("tmp*/**/*"), age_s)


def _memos() -> Iterator[Path]:
    return _older((storage.data_folder() / "memo").glob("*/*"), MEMO_DAYS * 86400)


def _prints(age_s: float) -> Iterator[Path]:
    """Work folders of prints that nobody makes any more, and zips that no row names."""
    rows = Print.objects.select_related("song").only("file_name", "song__slug")
    named = {(p.song.slug, p.file_name) for p in rows}
    for folder in (storage.data_folder() / "prints").glob("*"):
        try:
            with locks.song_lock(folder.name):
                yield from (p for p in folder.glob("*.work/**/*") if p.is_file())
                yield from folder.glob("*.part")
                zips = (p for p in folder.glob("*.zip") if (folder.name, p.name) not in named)
                yield from _older(zips, age_s)
        except locks.Busy:
            continue


def _unnamed(age_s: float) -> Iterator[Path]:
    media = storage.data_folder() / "media"
    old = [
        *_older(media.glob("audio/*/*"), age_s),
        *_older(media.glob("overviews/*"), age_s),
        *(
            p
            for kind in ("hits", "analysis", "edits")
            for p in _older(media.glob(f"{kind}/*"), age_s)
        ),
    ]
    if old:
        named = _named()
        yield from (p for p in old if p.name[:64] not in named and not p.name.endswith(".part"))


def _overviews(digest: str) -> Iterator[Path]:
    return (storage.data_folder() / "media" / "overviews").glob(f"{digest}-*")


def _named() -> set[str]:
    """Every content hash that any revision or the stock names. Raises `UnreadableRevision` where one cannot be
    unpacked: then nothing can be taken for unnamed."""
    named: set[str] = set(SampleSet.objects.values_list("sound", flat=True))
    for document in Revision.objects.values_list("document", flat=True).iterator():
        try:
            text = zlib.decompress(document)
        except zlib.error as error:
            raise UnreadableRevision from error
        named |= {h.decode() for h in _HASH.findall(text)}
    return named


def _empty_folders() -> None:
    data = storage.data_folder()
    for folder in [*data.glob("staging/*"), *data.glob("prints/*/*.work"), *data.glob("tmp*")]:
        if folder.is_dir():
            # Folders only: a file that is still wanted keeps its folder.
            for inner in sorted(folder.rglob("*"), reverse=True):
                with suppress(OSError):
                    inner.rmdir()
            with suppress(OSError):
                folder.rmdir()
