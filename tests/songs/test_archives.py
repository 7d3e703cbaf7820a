"""A song in one file: it comes back elsewhere as it was, and what is no such file does not."""

import json
import shutil
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client

from arkund import cli
from arkund.core.errors import ArkundError
from arkund.songs import (
    archives,
    desk,
    findings,
    rendering,
    revisions,
    snapshots,
    soundness,
    storage,
    todos,
)
from arkund.songs.models import Answer, Song
from arkund.songs.timing import sheet_of
from tests.conftest import forget_all
from tests.making import small_song

pytestmark = pytest.mark.django_db


@pytest.fixture
def song(data: Path, tmp_path: Path) -> Song:
    """With a branch that was left, an answer and a to-do."""
    song = small_song(tmp_path / "in")
    revisions.keep(
        song.pk, 1, {"mics.snare_top.trim_db": 3}, reason="too soft", measures={"a": [1, 2]}
    )
    revisions.undo(song.pk)
    revisions.keep(song.pk, 1, {"mics.kick_in.polarity": -1})
    song.refresh_from_db()
    Answer.objects.create(song=song, finding="x.y.z", state="declined", reason="no")
    todos.tick(song, todos.add(song, "that ring", "snare_top", 2).number, done=True)
    snapshots.name_present(song, "flipped")
    song.refresh_from_db()
    return song


KEPT = (
    "number",
    "created",
    "patch",
    "inverse",
    "label",
    "reason",
    "station",
    "measures",
    "finding",
    "sheet",
)


def told(song: Song) -> list[Any]:
    """Everything that a backup must keep."""
    return [
        song.name,
        song.school,
        song.current and song.current.number,
        [
            [getattr(r, name) for name in KEPT] + [r.parent and r.parent.number]
            for r in song.revisions.order_by("number")
        ],
        [(a.finding, a.state, a.reason) for a in song.answers.all()],
        [(s.name, s.revision.number) for s in song.snapshots.all()],
        [(t.number, t.text, t.mic, t.bar, t.created, t.done) for t in song.todos.all()],
    ]


def rendered(song: Song) -> np.ndarray:
    sheet = sheet_of(song)
    return rendering.render_span(sheet, "output", "now", 0, sheet.frames)


def emptied(song: Song) -> None:
    """As a data folder in which the song never was."""
    desk.remove(song)
    desk.delete(song)
    shutil.rmtree(storage.data_folder() / "media")
    shutil.rmtree(storage.data_folder() / "cache", ignore_errors=True)
    forget_all()


def test_a_song_comes_back_on_an_empty_folder_as_it_was(song: Song, tmp_path: Path) -> None:
    before, sound = told(song), rendered(song)
    path = tmp_path / "one.zip"
    assert cli.main(["backup", song.slug, "-o", str(path)]) == 0
    emptied(song)
    assert not Song.objects.exists()
    assert cli.main(["restore", str(path)]) == 0
    back = Song.objects.get()
    assert told(back) == before
    assert back.slug == song.slug
    np.testing.assert_array_equal(rendered(back), sound)
    assert findings.study_of_song(back).hits
    # Once more, beside itself.
    assert archives.restore(path).slug == f"{song.slug}-2"


def test_without_its_sounds_it_comes_back_and_says_what_is_missing(
    song: Song, tmp_path: Path
) -> None:
    path = archives.back_up(song, tmp_path / "settings.zip", audio=False)
    assert path.stat().st_size < 200_000
    before = told(song)
    emptied(song)
    back = archives.restore(path)
    assert told(back) == before
    assert len(soundness.checked(sheet_of(back))) == len(sheet_of(back).mics)


def test_a_backup_that_would_lack_a_sound_is_refused(song: Song, tmp_path: Path) -> None:
    source = next(iter(sheet_of(song).take.sources.values()))
    storage.sound_path(source.sha256).unlink()
    forget_all()
    with pytest.raises(ArkundError, match="missing"):
        archives.back_up(song, tmp_path / "one.zip")
    assert list(tmp_path.glob("one.zip*")) == []


Change = Callable[[dict[str, bytes]], object]


def _json(change: Callable[[Any], object], name: str = "song.json") -> Change:
    def changed(files: dict[str, bytes]) -> None:
        content = json.loads(files[name])
        change(content)
        files[name] = json.dumps(content).encode()

    return changed


def _first(files: dict[str, bytes], folder: str) -> str:
    return next(name for name in files if name.startswith(f"media/{folder}/"))


@pytest.mark.parametrize(
    ("change", "said"),
    [
        (lambda files: files.clear(), "no backup of a song"),
        (_json(lambda c: c.update(format=9)), "later version"),
        (_json(lambda c: c.update(current=7)), "do not follow each other"),
        (_json(lambda c: c["revisions"][1].update(parent=3)), "do not follow each other"),
        (_json(lambda c: c["revisions"][1].update(measures={"a": [{}, 1]})), "damaged"),
        (_json(lambda c: c.update(school={"name": "x"})), "damaged"),
        (_json(lambda c: c.update(name="")), "damaged"),
        (lambda files: files.pop("sheets/2.json"), "no backup of a song"),
        (_json(lambda c: c.update(rate=-1), "sheets/2.json"), "revision 2 cannot be read"),
        (lambda files: files.update({_first(files, "audio"): b"RIFF"}), "is not what it was"),
        (lambda files: files.update({_first(files, "hits"): b"[]"}), "is not what it was"),
        (
            lambda files: files.update({f"media/audio/{'a' * 64}.exe": b"x"}),
            "is no sound",
        ),
    ],
)
def test_what_is_no_backup_leaves_nothing(
    song: Song, tmp_path: Path, change: Change, said: str
) -> None:
    path = archives.back_up(song, tmp_path / "one.zip")
    with zipfile.ZipFile(path) as archive:
        files = {name: archive.read(name) for name in archive.namelist()}
    change(files)
    with zipfile.ZipFile(path, "w") as archive:
        for name, content in files.items():
            archive.writestr(name, content)
    emptied(song)
    with pytest.raises(ArkundError, match=said):
        archives.restore(path)
    assert not Song.objects.exists()
    assert list(storage.data_folder().rglob("*.part")) == []


def test_a_name_that_leads_elsewhere_is_passed_over(song: Song, tmp_path: Path) -> None:
    path = archives.back_up(song, tmp_path / "one.zip")
    with zipfile.ZipFile(path, "a") as archive:
        archive.writestr("../../elsewhere.txt", b"x")
        archive.writestr(f"media/hits/../../{'a' * 64}.json", b"[]")
    archives.restore(path)
    assert not list(tmp_path.rglob("elsewhere.txt"))
    assert not list(tmp_path.rglob(f"{'a' * 64}.json"))


def test_by_the_songs_page(song: Song, client: Client) -> None:
    whole = client.get(f"/{song.slug}/backup/")
    content = b"".join(whole.streaming_content)  # type: ignore[attr-defined]
    assert whole["Content-Disposition"].endswith('_revision_3_backup.zip"')
    sent = {"backup": SimpleUploadedFile("mine.zip", content)}
    assert client.post("/restore/", sent)["Location"] == f"/{song.slug}-2/"
    refused = client.post("/restore/", {"backup": SimpleUploadedFile("mine.zip", b"PK")})
    assert refused.status_code == 400
    assert "mine.zip is no backup of a song" in refused.content.decode()
    assert client.post("/restore/").status_code == 400
