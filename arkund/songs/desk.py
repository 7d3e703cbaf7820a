"""Songs on the desk: called otherwise, copied, put into the bin and taken out of it."""

import shutil

from django.db import transaction
from django.utils import timezone

from arkund.core.errors import ArkundError
from arkund.songs import importing, locks, revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.timing import sheet_of

LONGEST_NAME = 120


def rename(song: Song, name: str) -> None:
    """Call a song otherwise; its address stays. Raises `ArkundError` for a name that is none."""
    song.name = _checked(name)
    song.save(update_fields=["name"])


def duplicate(song: Song) -> Song:
    """A song that begins with the present sheet of another; they share their sound files."""
    sheet, name = sheet_of(song), _checked(f"{song.name[: LONGEST_NAME - 5]} copy")
    assert song.current is not None
    label = f"Copied from {song.name}, revision {song.current.number}"
    with transaction.atomic():
        made = Song.objects.create(name=name, slug=importing.free_slug(name), school=song.school)
        revisions.first_revision(made, sheet, label[:300], {})
    made.refresh_from_db()
    return made


def remove(song: Song) -> None:
    """Put a song into the bin: nothing of it is lost. Raises `Busy` while something works on it."""
    with locks.song_lock(song.slug):
        song.removed = timezone.now()
        song.save(update_fields=["removed"])


def bring_back(song: Song) -> None:
    """Take a song out of the bin."""
    song.removed = None
    song.save(update_fields=["removed"])


def delete(song: Song) -> None:
    """Delete a song that is in the bin: its revisions, answers and prints; sounds that no other song uses are
    swept later. Raises `ArkundError` for one on the desk."""
    if song.removed is None:
        raise ArkundError(f"{song.name} is not in the bin; remove it first.")
    with locks.song_lock(song.slug), transaction.atomic():
        song.prints.all().delete()
        Song.objects.filter(pk=song.pk).update(current=None)
        # Each revision protects the one before it.
        Revision.objects.filter(song=song).update(parent=None)
        song.refresh_from_db()
        song.delete()
        shutil.rmtree(storage.prints_folder(song.slug), ignore_errors=True)


def _checked(name: str) -> str:
    name = " ".join(name.split())
    if not name or len(name) > LONGEST_NAME or not name.isprintable():
        raise ArkundError(f"A song's name has 1 to {LONGEST_NAME} letters.")
    return name
