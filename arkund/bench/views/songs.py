"""Entering a song, and bringing a new one in."""

import re
import secrets
import shutil
import uuid
from collections.abc import Mapping
from typing import Annotated, Any, ClassVar, Literal

from django.core.files.uploadedfile import UploadedFile
from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST
from pydantic import Field, field_validator

from arkund.bench.requests import Asked, Line, body, song_named
from arkund.core.audio.files import examine
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.kit.naming import Guess, guess_roles
from arkund.core.kit.roles import ROLES, parse_mic_name
from arkund.songs import importing, jobs, storage
from arkund.songs.incoming import PAIRED, take_number
from arkund.songs.models import Job, StagedFile

TOKEN = re.compile(r"^[A-Za-z0-9_-]{16,40}$")
SPARE_BYTES = 512 << 20


@require_GET
def enter(request: HttpRequest, slug: str) -> HttpResponse:
    """A song opens on its lanes."""
    song_named(slug)
    return redirect("station", slug=slug, station="edit")


def staging() -> dict[str, Any]:
    """What a form needs that brings in a new song: a place to stage its files, and the roles to choose among."""
    mics = [r for r in ROLES if r not in ("tom", "overhead", "room")]
    choices = [
        *mics[:7],
        *(f"tom_{n}" for n in range(1, 6)),
        "overhead_l",
        "overhead_r",
        "overhead",
        "room_l",
        "room_r",
        "room",
        *mics[7:],
    ]
    return {"token": secrets.token_urlsafe(18), "choices": choices, "paired": " ".join(PAIRED)}


@require_GET
def new(request: HttpRequest) -> HttpResponse:
    """A new song, on a page of its own."""
    return render(request, "bench/new.html", staging())


@require_POST
def stage(request: HttpRequest, token: str) -> HttpResponseBase:
    """Take in one file, examine it, answer with all files so far and their guessed roles."""
    if not TOKEN.match(token):
        raise ArkundError("Reload the page and drop the files again.")
    upload = request.FILES.get("file")
    if upload is None:
        raise ArkundError("No file arrived; drop it again.")
    name = str(request.POST.get("name") or upload.name)[:255]
    if name.rpartition("/")[2].startswith("."):
        raise ArkundError(f"{name} is a hidden file; give it a name before the dot.")
    if not name.isprintable():
        raise ArkundError("The file's name holds letters that cannot be shown; rename it.")
    folder = storage.staging_folder(token)
    folder.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(folder).free
    if free < 2 * (upload.size or 0) + SPARE_BYTES:
        raise ArkundError(
            f"{name}: the disk has {free >> 20} MB left, too little for it. Free some space."
        )
    _stage_file(upload, name, token)
    return JsonResponse(_staged(token))


REPLACED = "It takes the place of the file of that name that came before."


def _stage_file(upload: UploadedFile, name: str, token: str) -> None:
    suffix = re.sub(r"[^.a-z0-9]", "", name[name.rfind(".") :].lower())[:6]
    stored = f"{uuid.uuid4().hex}{suffix}"
    path = storage.staging_folder(token) / stored
    part = path.with_name(stored + ".part")
    facts: dict[str, Any] = {}
    refusal = ""
    try:
        with part.open("wb") as stream:
            for chunk in upload.chunks(1 << 20):
                stream.write(chunk)
        part.replace(path)
        try:
            found = examine(path, name)
            facts = {
                "seconds": round(found.seconds, 2),
                "rate": found.rate,
                "note": found.note,
                "channels": found.channels,
                "silent": found.is_silent,
            }
        except AudioRefused as error:
            refusal = f"{error.reason} {error.remedy}"
            path.unlink(missing_ok=True)
        with transaction.atomic():
            earlier = StagedFile.objects.filter(token=token, name=name)
            replaced = list(earlier.values_list("stored", flat=True))
            earlier.delete()
            if replaced and facts:
                facts["note"] = f"{facts['note']} {REPLACED}".strip()
            StagedFile.objects.create(
                token=token, name=name, stored=stored, facts=facts, refusal=refusal[:500]
            )
    except IntegrityError:
        path.unlink(missing_ok=True)
        raise ArkundError(f"{name} arrived twice at once; drop it again.") from None
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    finally:
        part.unlink(missing_ok=True)
    for old in replaced:
        path.with_name(old).unlink(missing_ok=True)


def _staged(token: str) -> dict[str, Any]:
    rows = list(StagedFile.objects.filter(token=token).order_by("name"))
    good = [r for r in rows if not r.refusal]
    guesses: dict[str, Guess] = {}
    for take in {take_number(r.name) for r in good}:
        names = [r.name for r in good if take_number(r.name) == take]
        guesses |= dict(zip(names, guess_roles(names), strict=True))
    return {
        "files": [
            {
                "name": r.name,
                **r.facts,
                "refusal": r.refusal,
                "mic": str(guesses[r.name].mic) if r.name in guesses else "",
                "sure": guesses[r.name].confidence >= 0.5 if r.name in guesses else False,
            }
            for r in rows
        ]
    }


class StagedName(Asked):
    """A staged file, the mic it is for, and what is taken of it where it is stereo."""

    name: Annotated[Line, Field(min_length=1)]
    mic: Annotated[Line, Field(min_length=1, max_length=40)]
    pick: Literal["mono", "left", "right", "sum"] = "mono"


class NewSong(Asked):
    """What is said of a new song; empty: measure it."""

    refusal: ClassVar[str] = (
        "A song needs a name, and files of which each has its name and its role."
    )
    refusals: ClassVar[Mapping[str, str]] = {
        "tempo": "The tempo is not a number.",
        "resample": "The rate to resample to is not a number such as 48000.",
        "meter": "The meter is not one such as 4/4 or 6/8.",
    }
    name: Line
    tempo: float | None = None
    meter: Annotated[Line, Field(max_length=10)] = "4/4"
    pad: bool = False
    resample: Annotated[int, Field(ge=0, le=10_000_000)] | None = None
    files: tuple[StagedName, ...] = Field((), max_length=2000)

    @field_validator("tempo", "resample", "meter", mode="before")
    @classmethod
    def _nothing_said(cls, value: Any, info: Any) -> Any:
        return cls.model_fields[info.field_name].default if value in ("", None) else value


@require_POST
def make(request: HttpRequest, token: str) -> JsonResponse:
    """Start making the song of what was staged."""
    asked = body(request, NewSong)
    if not asked.name:
        raise ArkundError("Give the song a name.")
    importing.Wishes(asked.name, asked.tempo, asked.meter, resample_hz=asked.resample).check()
    if not asked.files:
        raise ArkundError("Drop the mics' files first.")
    for file in asked.files:
        try:
            parse_mic_name(file.mic)
        except ValueError as error:
            raise ArkundError(f"{file.name}: {error}") from None
    params = {"token": token, **asked.model_dump(mode="json")}
    return JsonResponse({"job": jobs.enqueue("import", None, params).pk})


@require_GET
def job(request: HttpRequest, number: int) -> JsonResponse:
    row = get_object_or_404(Job, pk=number)
    message = row.message
    if row.state == Job.State.QUEUED and not jobs.somebody_works():
        message = "waiting: no worker is running; “arkund worker” starts one"
    return JsonResponse(
        {"state": row.state, "share": row.share, "message": message, "result": row.result}
    )


@require_POST
def cancel_job(request: HttpRequest, number: int) -> JsonResponse:
    jobs.cancel(get_object_or_404(Job, pk=number))
    return JsonResponse({"ok": True})
