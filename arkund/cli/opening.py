"""What commands share: the songs they open, and what they say."""

import argparse
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from arkund.cli.waiting import WAITING
from arkund.core.errors import ArkundError

Add = Callable[[str, Callable[..., Any], str], Any]
"""Adds a command: its name, what runs it, and a line about it; gives its parser."""


def say(text: str) -> None:
    """A message for the person at the terminal."""
    WAITING.end()
    print(text, file=sys.stderr)


def given_path(text: str) -> Path:
    """A file or folder that was named; an empty name would be the present folder."""
    if not text.strip():
        raise argparse.ArgumentTypeError("it is empty; name a file or folder")
    return Path(text)


def set_up_django(*, migrate: bool = True) -> None:
    """Set Django up and bring the database to the present schema."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
    import django

    django.setup()
    if migrate:
        from arkund.songs.upgrading import bring_up_to_date

        bring_up_to_date()


def song_named(called: str) -> Any:
    """The song of a short name, or of a title that one song alone bears; raises `ArkundError` with
    the songs that there are."""
    set_up_django()
    from arkund.songs.models import Song

    songs = Song.objects.on_desk()
    song = songs.filter(slug=called).first()
    if song is None:
        titled = list(songs.filter(name__iexact=called)[:2])
        song = titled[0] if len(titled) == 1 else None
    if song is None:
        known = ", ".join(songs.values_list("slug", flat=True)) or "none yet"
        raise ArkundError(f"There is no song “{called}”. Songs: {known}.")
    return song


def show_progress(share: float, what: str) -> None:
    """How far long work is, where somebody is watching."""
    WAITING.tell(share, what)
