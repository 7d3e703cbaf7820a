"""Verifying a data folder: database, sheets, and every file that they rest on.

What could be mended without losing anything is said, and done when asked for: unneeded files are
removed, overviews and rendered tiles that are damaged are made again when they are wanted.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from django.db import connection

from arkund.core.errors import ArkundError
from arkund.core.render.cache import unsealed
from arkund.core.sheet.sheet import Sheet
from arkund.songs import backups, soundness, storage, sweeping
from arkund.songs.models import Print, Song


@dataclass
class Report:
    """``wrong``: what only a backup or a new import can bring back; ``mendable``: what ``--mend``
    does; both as sentences."""

    songs: int = 0
    files: int = 0
    wrong: list[str] = field(default_factory=list)
    mendable: list[str] = field(default_factory=list)
    mended: bool = False

    @property
    def lines(self) -> list[str]:
        return [*self.wrong, *self.mendable]

    @property
    def summary(self) -> str:
        looked = f"{self.songs} song{'s' * (self.songs != 1)} and {self.files} files checked: "
        if not self.lines:
            return looked + "all is well."
        left = "" if self.mended or not self.mendable else "; --mend does what can be done"
        return (
            looked + f"{len(self.wrong)} things are wrong, {len(self.mendable)} "
            f"{'were mended' if self.mended else 'could be mended'}{left}."
        )

    def as_dict(self) -> dict[str, Any]:
        return {
            "songs": self.songs,
            "files": self.files,
            "wrong": len(self.wrong),
            "mendable": len(self.mendable),
            "mended": self.mended,
            "lines": self.lines,
        }


def check(
    *, mend: bool = False, progress: Callable[[float, str], None] = lambda share, what: None
) -> Report:
    """Check everything. Raises `ArkundError` where the database cannot be opened at all."""
    report = Report(mended=mend)
    progress(0.0, "the database")
    if not connection.introspection.table_names():
        raise ArkundError(f"There is no database in {storage.data_folder()} yet; nothing to check.")
    if said := backups.complaints(backups.database()):
        copies = len(backups.copies())
        raise ArkundError(
            f"The database {backups.database()} is damaged ({said[0]}). “arkund restore” puts the "
            f"newest of {copies} copies in its place."
        )
    if broken := _broken_references():
        report.wrong.append(f"The database has {broken} rows that refer to nothing.")
    songs = list(Song.objects.select_related("current"))
    report.songs = len(songs)
    for number, song in enumerate(songs):
        progress(0.05 + 0.8 * number / len(songs), song.name)
        _check_song(song, report)
    progress(0.9, "what is left over")
    _check_made(report, mend=mend)
    swept = sweeping.sweep(only_look=not mend)
    if swept.files:
        report.mendable.append(
            f"{swept.files} files ({swept.size / 1e6:.1f} MB) are left over from "
            "imports, uploads or prints."
        )
    progress(1.0, "done")
    return report


def _broken_references() -> int:
    with connection.cursor() as cursor:
        cursor.execute("PRAGMA foreign_key_check")
        return len(cursor.fetchall())


def _check_song(song: Song, report: Report) -> None:
    lists: set[tuple[str, str]] = set()
    sounds: dict[str, Sheet] = {}
    for revision in song.revisions.all():
        try:
            sheet = revision.sheet
        except ArkundError as error:
            report.wrong.append(str(error))
            continue
        lists |= {("edits", sheet.moves)} if sheet.moves else set()
        for take in sheet.takes:
            lists |= {("hits", take.hits)} if take.hits else set()
            lists |= {("analysis", take.analysis)} if take.analysis else set()
        names = "".join(sorted(s.sha256 for t in sheet.takes for s in t.sources.values()))
        sounds[names] = sheet
    lost = {one.words for sheet in sounds.values() for one in soundness.checked(sheet)}
    report.wrong += [f"{song.name}: {words}" for words in sorted(lost)]
    report.files += len(
        {s.sha256 for sheet in sounds.values() for t in sheet.takes for s in t.sources.values()}
    ) + len(lists)
    for kind, digest in sorted(lists):
        path = storage.list_path(kind, digest)
        if not path.exists() or storage.hash_of(path) != digest:
            state = "damaged" if path.exists() else "missing"
            report.wrong.append(f"{song.name}: the list {kind}/{path.name} is {state}.")
    for made in Print.objects.filter(song=song):
        if not (storage.prints_folder(song.slug) / made.file_name).exists():
            report.mendable.append(f"{song.name}: the print {made.file_name} is gone.")


def _check_made(report: Report, *, mend: bool) -> None:
    """Files that are made again when they are missing: a damaged one is removed."""
    data = storage.data_folder()
    damaged: list[Path] = []
    for pattern in ("media/overviews/*.npy", "cache/*/*.npy", "memo/*/*.json"):
        for path in data.glob(pattern):
            report.files += 1
            try:
                if unsealed(path.read_bytes()) is None:
                    damaged.append(path)
            except OSError:
                damaged.append(path)
    if damaged:
        report.mendable.append(f"{len(damaged)} files that can be made again are damaged.")
    if mend:
        for path in damaged:
            path.unlink(missing_ok=True)
        for made in Print.objects.select_related("song"):
            if not (storage.prints_folder(made.song.slug) / made.file_name).exists():
                made.delete()
