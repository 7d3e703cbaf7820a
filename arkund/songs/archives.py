"""One file with everything of a song: revisions, answers, to-dos, hit lists, and its sounds by choice.

A zip: ``song.json``, ``sheets/N.json`` of each revision, and ``media/…`` by content hash, as in the media folder.
What comes back is believed only after it was read as what it says it is: sheets are loaded, and files must have
the content that their names are the hash of.
"""

import hashlib
import json
import os
import re
import shutil
import zipfile
import zlib
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path
from typing import Annotated, Any, Literal

from django.db import transaction
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, TypeAdapter, ValidationError

from arkund.core.advise.school import School
from arkund.core.errors import ArkundError, SheetError
from arkund.core.sheet.sheet import load
from arkund.core.timing.moves import EditList
from arkund.songs import importing, soundness, storage, sweeping
from arkund.songs.models import Answer, Revision, Snapshot, Song, Todo

FORMAT = 1
LISTS = ("hits", "edits", "analysis")
SUFFIXES = (".wav", ".flac", ".aif", ".aiff", ".w64")
LARGEST_JSON = 400_000_000
SPARE_BYTES = 256 << 20
_HASH = re.compile(r'"([0-9a-f]{64})"')
_MEDIA = re.compile(r"media/(audio|hits|edits|analysis)/([0-9a-f]{64})(\.[a-z0-9]{1,5})")

Progress = Callable[[float], None]
Number = Annotated[int, Field(ge=1, le=1_000_000)]
Named = Annotated[str, Field(max_length=300)]


def _figures(measures: dict[str, Any]) -> dict[str, Any]:
    """Measures as pages show them: pairs of figures, and words."""
    for value in measures.values():
        if isinstance(value, dict):
            _figures(value)
        elif isinstance(value, list):
            if not all(one is None or isinstance(one, (int, float, str)) for one in value):
                raise ValueError("a measure is a figure, a pair or a word")
            if len(value) == 2 and any(isinstance(one, str) for one in value):
                raise ValueError("a pair is of figures")
        elif not (value is None or isinstance(value, (int, float, str))):
            raise ValueError("a measure is a figure, a pair or a word")
    return measures


class _Part(BaseModel):
    model_config = ConfigDict(frozen=True, extra="ignore")


class _Revision(_Part):
    number: Number
    parent: Number | None
    created: datetime
    patch: dict[str, Any]
    inverse: dict[str, Any]
    label: Named
    reason: str = Field("", max_length=20_000)
    station: str = Field("", max_length=20)
    measures: Annotated[dict[str, Any], AfterValidator(_figures)] = {}
    finding: str = Field("", max_length=120)


class _Hit(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid", allow_inf_nan=False)
    id: str = Field(max_length=80)
    piece: str = Field(pattern=r"^[a-z]+(_[0-9]{1,3})?$")
    time_s: float
    velocity: int = Field(ge=0, le=127)
    kind: str = Field(max_length=20)
    confidence: float
    level_db: float
    grace_s: float | None = None


_Hits = TypeAdapter(list[_Hit])


class _Answer(_Part):
    finding: str = Field(max_length=120)
    state: Literal["applied", "changed", "declined"]
    text: str = Field("", max_length=20_000)
    reason: str = Field("", max_length=500)
    revision: Number | None


class _Todo(_Part):
    number: Number
    text: Named
    mic: str = Field("", max_length=40)
    bar: Number | None
    created: datetime
    done: datetime | None


class _Snapshot(_Part):
    name: str = Field(min_length=1, max_length=60)
    revision: Number


class _Song(_Part):
    format: int
    name: str = Field(min_length=1, max_length=120)
    slug: str = Field(max_length=60)
    school: School
    current: Number
    revisions: list[_Revision] = Field(min_length=1, max_length=100_000)
    answers: list[_Answer] = Field(max_length=100_000)
    todos: list[_Todo] = Field(max_length=10_000)
    snapshots: list[_Snapshot] = Field([], max_length=10_000)


def file_name(song: Song) -> str:
    """What a backup is called."""
    assert song.current is not None
    return f"{song.slug}_revision_{song.current.number}_backup.zip"


def back_up(
    song: Song, path: Path, *, audio: bool = True, progress: Progress = lambda share: None
) -> Path:
    """Write a song to one file, with its sounds unless ``audio`` is false. Raises `LostFile` where one of its
    files is gone: a backup that lacks it would be none."""
    revisions = list(song.revisions.order_by("number"))
    texts = {one.number: zlib.decompress(bytes(one.document)).decode() for one in revisions}
    named = {digest for text in texts.values() for digest in _HASH.findall(text)}
    if audio and song.current is not None:
        soundness.refuse_lost(song.current.sheet)
    media = list(_media(named, audio=audio))
    part = path.with_name(f"{path.name}.{os.getpid()}.part")
    try:
        with zipfile.ZipFile(part, "w", zipfile.ZIP_DEFLATED, allowZip64=True) as archive:
            archive.writestr("song.json", _as_json(song, revisions))
            for number, text in texts.items():
                archive.writestr(f"sheets/{number}.json", text)
            for done, (name, file) in enumerate(media, start=1):
                kind = zipfile.ZIP_STORED if name.startswith("media/audio") else None
                archive.write(file, name, kind)
                progress(done / len(media))
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
    return path


def _media(named: set[str], *, audio: bool) -> Iterator[tuple[str, Path]]:
    for digest in sorted(named):
        for folder in LISTS:
            path = storage.list_path(folder, digest)
            if path.exists():
                yield f"media/{folder}/{digest}.json", path
        sound = storage.find_sound(digest) if audio else None
        if sound is not None:
            yield f"media/audio/{sound.name}", sound


def _as_json(song: Song, revisions: list[Revision]) -> str:
    assert song.current is not None
    numbers = {one.pk: one.number for one in revisions}
    told = _Song(
        format=FORMAT,
        name=song.name,
        slug=song.slug,
        school=School.model_validate(song.school),
        current=song.current.number,
        revisions=[
            _Revision(
                parent=numbers.get(one.parent_id or 0),
                **{name: getattr(one, name) for name in _Revision.model_fields if name != "parent"},
            )
            for one in revisions
        ],
        answers=[
            _Answer(
                finding=one.finding,
                state=one.state,
                text=one.text,
                reason=one.reason,
                revision=numbers.get(one.revision_id or 0),
            )
            for one in song.answers.all()
        ],
        todos=[
            _Todo(**{name: getattr(one, name) for name in _Todo.model_fields})
            for one in song.todos.all()
        ],
        snapshots=[
            _Snapshot(name=one.name, revision=numbers[one.revision_id])
            for one in song.snapshots.all()
        ],
    )
    return told.model_dump_json()


def restore(path: Path, *, progress: Progress = lambda share: None) -> Song:
    """Make a song of a backup: under its own address if that is free. Raises `ArkundError` where the file is no
    backup, is damaged, or was made by a later version; then nothing is left of it."""
    try:
        with zipfile.ZipFile(path) as archive:
            return _restored(archive, path.name, progress)
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError):
        raise ArkundError(f"{path.name} is no backup of a song, or it is damaged.") from None


def _restored(archive: zipfile.ZipFile, name: str, progress: Progress) -> Song:
    told = _told(archive, name)
    sheets = {one.number: _sheet_text(archive, name, one.number) for one in told.revisions}
    numbers = set(sheets)
    if told.current not in numbers or any(
        one.parent is not None and (one.parent not in numbers or one.parent >= one.number)
        for one in told.revisions
    ):
        raise ArkundError(f"{name} is damaged: its revisions do not follow each other.")
    media = [found for info in archive.infolist() if (found := _MEDIA.fullmatch(info.filename))]
    size = sum(archive.getinfo(found.group()).file_size for found in media)
    if size + SPARE_BYTES > shutil.disk_usage(storage.data_folder()).free:
        raise ArkundError(f"The disk has too little space for {name}.")
    with sweeping.storing() as stored:
        for done, found in enumerate(media, start=1):
            _store(archive, name, found, stored)
            progress(0.95 * done / len(media))
        with transaction.atomic():
            song = _made(told, sheets)
    progress(1.0)
    return song


def _told(archive: zipfile.ZipFile, name: str) -> _Song:
    try:
        text = _read(archive, name, "song.json")
        data = json.loads(text)
        if (
            isinstance(data, dict)
            and isinstance(data.get("format"), int)
            and data["format"] > FORMAT
        ):
            raise ArkundError(f"{name} was made by a later version of Arkund. Update this one.")
        return _Song.model_validate(data)
    except (ValidationError, ValueError, RecursionError):
        raise ArkundError(f"{name} is no backup of a song, or it is damaged.") from None


def _sheet_text(archive: zipfile.ZipFile, name: str, number: int) -> str:
    text = _read(archive, name, f"sheets/{number}.json")
    try:
        load(text)
    except (SheetError, ValidationError) as error:
        raise ArkundError(f"{name}: revision {number} cannot be read: {error}") from None
    return text


def _read(archive: zipfile.ZipFile, name: str, member: str) -> str:
    try:
        if archive.getinfo(member).file_size > LARGEST_JSON:
            raise ArkundError(f"{name} is too large: {member} has more than a song can have.")
        return archive.read(member).decode()
    except (KeyError, UnicodeDecodeError):
        raise ArkundError(f"{name} is no backup of a song, or it is damaged.") from None


def _store(archive: zipfile.ZipFile, name: str, found: re.Match[str], stored: list[str]) -> None:
    """A file into the media folder, under the hash that its content has."""
    folder, digest, suffix = found.groups()
    if folder != "audio":
        _store_list(archive, name, found)
        return
    if suffix not in SUFFIXES:
        raise ArkundError(f"{name} holds a file that is no sound: {digest[:12]}{suffix}.")
    target = storage.find_sound(digest) or storage.new_sound_path(digest, suffix)
    if target.exists() and storage.hash_of(target) == digest:
        return
    target.parent.mkdir(parents=True, exist_ok=True)
    part = target.with_name(f"{target.name}.{os.getpid()}.part")
    hashed = hashlib.sha256()
    try:
        with archive.open(found.group()) as source, part.open("wb") as out:
            while block := source.read(1 << 20):
                hashed.update(block)
                out.write(block)
        if hashed.hexdigest() != digest:
            raise ArkundError(f"{name} is damaged: a file in it is not what it was.")
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)
    stored.append(digest)


def _store_list(archive: zipfile.ZipFile, name: str, found: re.Match[str]) -> None:
    """A list of hits, edits or measurements, if it is one."""
    folder, digest, _ = found.groups()
    text = _read(archive, name, found.group()).encode()
    try:
        content = json.loads(text)
        if folder == "hits":
            _Hits.validate_python(content)
        elif folder == "edits":
            EditList.from_dict(content)
        is_right = folder != "analysis" or isinstance(content, dict)
    except (ValidationError, ValueError, TypeError, KeyError, AttributeError, RecursionError):
        is_right = False
    if not is_right or hashlib.sha256(text).hexdigest() != digest:
        raise ArkundError(f"{name} is damaged: a file in it is not what it was.")
    storage.write_atomically(storage.list_path(folder, digest), text)


def _made(told: _Song, sheets: dict[int, str]) -> Song:
    slug = importing.free_slug(told.slug.replace("_", "-"))
    song = Song.objects.create(name=told.name, slug=slug, school=told.school.model_dump())
    made: dict[int, Revision] = {}
    for one in sorted(told.revisions, key=lambda one: one.number):
        made[one.number] = Revision.objects.create(
            song=song,
            parent=made[one.parent] if one.parent else None,
            document=zlib.compress(sheets[one.number].encode(), 6),
            **one.model_dump(exclude={"parent", "created"}),
        )
        Revision.objects.filter(pk=made[one.number].pk).update(created=one.created)
    for answer in told.answers:
        revision = made.get(answer.revision) if answer.revision else None
        Answer.objects.create(
            song=song, revision=revision, **answer.model_dump(exclude={"revision"})
        )
    for todo in told.todos:
        kept = Todo.objects.create(song=song, **todo.model_dump(exclude={"created"}))
        Todo.objects.filter(pk=kept.pk).update(created=todo.created)
    for snapshot in told.snapshots:
        if snapshot.revision in made:
            Snapshot.objects.create(song=song, name=snapshot.name, revision=made[snapshot.revision])
    song.current = made[told.current]
    song.save(update_fields=["current"])
    song.refresh_from_db()
    return song
