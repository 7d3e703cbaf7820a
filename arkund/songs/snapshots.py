"""Revisions under names: kept, found again, gone back to."""

from arkund.core.errors import ArkundError
from arkund.songs import revisions
from arkund.songs.models import Revision, Snapshot, Song

LONGEST = 60


def name_present(song: Song, name: str) -> Snapshot:
    """Give the present revision a name; a name that is taken moves here. Raises `ArkundError`."""
    name = " ".join(name.split())
    if not 1 <= len(name) <= LONGEST or name.isdecimal():
        raise ArkundError(
            f"A snapshot's name has 1 to {LONGEST} characters, and is not a number alone."
        )
    assert song.current is not None
    made, _ = Snapshot.objects.update_or_create(
        song=song, name=name, defaults={"revision": song.current}
    )
    return made


def remove(song: Song, name: str) -> None:
    """Remove a name; the revision stays. Raises `ArkundError` where there is none such."""
    _named(song, name).delete()


def revision_of(song: Song, called: str) -> Revision:
    """The revision of a number, or of a snapshot's name. Raises `ArkundError`."""
    if not called.isdecimal():
        return _named(song, called).revision
    found = song.revisions.filter(number=int(called[:9])).first()
    if found is None:
        last = song.revisions.count()
        raise ArkundError(f"There is no revision {called[:9]}. There are 1 to {last}.")
    return found


def go_back(song: Song, called: str) -> Revision:
    """Make the sheet of a revision or a snapshot the present one again, as a new revision. Raises `ArkundError`."""
    found = revision_of(song, called)
    name = found.label if called.isdecimal() else called
    return revisions.go_back(song.pk, found.number, f"Back to {found.number}: {name}")


def _named(song: Song, name: str) -> Snapshot:
    found = song.snapshots.select_related("revision").filter(name=name).first()
    if found is None:
        known = ", ".join(song.snapshots.values_list("name", flat=True)) or "none"
        raise ArkundError(f"There is no snapshot “{name[:LONGEST]}”. Snapshots: {known}.")
    return found
