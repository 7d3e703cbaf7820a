"""Songs made quickly for tests: imported once a process, and copied after that."""

import shutil
from collections.abc import Callable, Hashable
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import soundfile as sf
from django.apps import apps
from django.conf import settings
from django.core import serializers
from django.db import transaction

from arkund.core.sheet.sheet import Section
from arkund.songs import importing, incoming
from arkund.songs.models import Song

RATE = 48000
STORED = ("media", "memo", "cache")
"""What an import leaves in a data folder."""


def write_small_takes(folder: Path, takes: int = 1) -> None:
    """Kick and snare struck in turn at 120 BPM for eight seconds; take 2 drops a snare in bar 3."""
    for take in range(1, takes + 1):
        target = folder / f"take {take}" if takes > 1 else folder
        target.mkdir(parents=True, exist_ok=True)
        rng = np.random.default_rng(2 + take)
        time = np.arange(RATE // 4) / RATE
        sounds = {m: rng.standard_normal(RATE * 8) * 1e-4 for m in ("Kick In", "Snare Top")}
        for beat in range(16):
            if take == 2 and beat == 9:
                continue
            hz = 60 if beat % 2 == 0 else 200
            own, other = ("Kick In", "Snare Top") if beat % 2 == 0 else ("Snare Top", "Kick In")
            hit = (
                np.sin(2 * np.pi * hz * time)
                + rng.standard_normal(len(time)) * np.exp(-time / 0.004)
            ) * np.exp(-time / 0.05)
            # A hit at the very first sample has no before to rise from.
            at = round((beat * 0.5 + (0.25 if takes > 1 else 0.0)) * RATE)
            room = RATE * 8 - at - 60
            sounds[own][at : at + len(hit)] += 0.4 * hit[: room + 60]
            sounds[other][at + 60 : at + 60 + len(hit)] += 0.03 * hit[:room]
        for mic, sound in sounds.items():
            sf.write(str(target / f"{mic}.wav"), sound, RATE, subtype="PCM_24")


def small_song(folder: Path, name: str = "Tin Roof", takes: int = 1) -> Song:
    """The song of `write_small_takes`; with several takes in two sections of two bars."""
    write_small_takes(folder, takes)
    parts = (Section(name="verse", start_bar=1, bars=2), Section(name="out", start_bar=3, bars=2))
    wishes = importing.Wishes(name, 120.0, sections=parts if takes > 1 else ())
    return _once((name, takes), lambda: _imported(folder, wishes))


def whole_song(recording: Path, name: str = "Slag Run") -> Song:
    """The song of a whole kit's recording."""
    return _once((recording, name), lambda: _imported(recording, importing.Wishes(name)))


def copied(song: Song, number: int) -> Song:
    """A fresh song's like, of the same files, that knows nothing of it."""
    revision = song.current
    assert revision is not None
    copy = Song.objects.create(slug=f"{song.slug}-{number}", name=f"{song.name} {number}")
    revision.pk, revision.song = None, copy
    revision.save()
    copy.current = revision
    copy.save()
    return copy


def _imported(folder: Path, wishes: importing.Wishes) -> Song:
    files = incoming.guess_incoming(incoming.files_of(folder))
    return importing.import_song(files, wishes)[0]


def _once(key: Hashable, make: Callable[[], Song]) -> Song:
    """Where nothing is stored yet, what was made under a key before, or what is made now."""
    if Song.objects.exists():
        return make()
    if key not in _made:
        _made[key] = _Made.of(make())
    return _made[key].put_back()


class _Made:
    """A song as it was imported: the files of its data folder, and its rows."""

    def __init__(self, folder: TemporaryDirectory[str], rows: str, slug: str) -> None:
        self._folder, self._rows, self._slug = folder, rows, slug

    @classmethod
    def of(cls, song: Song) -> "_Made":
        """The only song that is stored."""
        folder = TemporaryDirectory(prefix="arkund-made-")
        for part in STORED:
            if (settings.DATA / part).is_dir():
                shutil.copytree(settings.DATA / part, Path(folder.name) / part)
        models = apps.get_app_config("songs").get_models()
        rows = serializers.serialize("json", [row for m in models for row in m.objects.all()])
        return cls(folder, rows, song.slug)

    def put_back(self) -> Song:
        """The same song in the present data folder and database."""
        shutil.copytree(self._folder.name, settings.DATA, dirs_exist_ok=True)
        with transaction.atomic():
            for row in serializers.deserialize("json", self._rows):
                row.save()
        return Song.objects.get(slug=self._slug)


_made: dict[Hashable, _Made] = {}
