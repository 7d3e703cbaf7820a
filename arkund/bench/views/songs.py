"""The songs page, and bringing a new song in."""

import re
import secrets
import shutil
import uuid
from typing import Any

from django.core.files.uploadedfile import UploadedFile
from django.db import IntegrityError, transaction
from django.http import HttpRequest, HttpResponse, HttpResponseBase, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from arkund.bench.requests import body, song_named
from arkund.core.audio.files import examine
from arkund.core.errors import ArkundError, AudioRefused
from arkund.core.kit.naming import guess_roles
from arkund.core.kit.roles import ROLES, parse_mic_name
from arkund.core.timing.grid import parse_meter
from arkund.songs import jobs, storage
from arkund.songs.models import Job, Song, StagedFile

TOKEN = re.compile(r"^[A-Za-z0-9_-]{16,40}$")
SPARE_BYTES = 512 << 20


@require_GET
def index(request: HttpRequest) -> HttpResponse:
    songs = [
        {"song": s, "sheet": s.current.sheet, "prints": s.prints.count()}
        for s in Song.objects.select_related("current").all() if s.current
    ]  # fmt: skip
    return render(request, "bench/songs.html", {"songs": songs})


@require_GET
def enter(request: HttpRequest, slug: str) -> HttpResponse:
    """A song opens on its lanes."""
    song_named(slug)
    return redirect("station", slug=slug, station="edit")


@require_GET
def new(request: HttpRequest) -> HttpResponse:
    mics = [r for r in ROLES if r not in ("tom", "overhead", "room")]
    choices = [*mics[:7], *(f"tom_{n}" for n in range(1, 6)), "overhead_l", "overhead_r", "overhead",
               "room_l", "room_r", "room", *mics[7:]]  # fmt: skip
    context = {"token": secrets.token_urlsafe(18), "choices": choices}
    return render(request, "bench/new.html", context)


@require_POST
def stage(request: HttpRequest, token: str) -> HttpResponseBase:
    """Take in one file, examine it, answer with all files so far and their guessed roles."""
    if not TOKEN.match(token):
        raise ArkundError("Reload the page and drop the files again.")
    upload = request.FILES.get("file")
    if upload is None:
        raise ArkundError("No file arrived; drop it again.")
    name = str(request.POST.get("name") or upload.name)[:255]
    folder = storage.staging_folder(token)
    folder.mkdir(parents=True, exist_ok=True)
    free = shutil.disk_usage(folder).free
    if free < 2 * (upload.size or 0) + SPARE_BYTES:
        raise ArkundError(
            f"{name}: the disk has {free >> 20} MB left, too little for it. Free some space."
        )
    _stage_file(upload, name, token)
    return JsonResponse(_staged(token))


def _stage_file(upload: UploadedFile, name: str, token: str) -> None:
    suffix = re.sub(r"[^.a-z0-9]", "", name[name.rfind(".") :].lower())[:6]
    stored = f"{uuid.uuid4().hex}{suffix}"
    path = storage.staging_folder(token) / stored
    part = path.with_name(stored + ".part")
    with part.open("wb") as stream:
        for chunk in upload.chunks(1 << 20):
            stream.write(chunk)
    part.replace(path)
    facts: dict[str, Any] = {}
    refusal = ""
    try:
        found = examine(path, name)
        facts = {"seconds": round(found.seconds, 2), "rate": found.rate,
                 "channels": found.channels, "silent": found.is_silent}  # fmt: skip
    except AudioRefused as error:
        refusal = f"{error.reason} {error.remedy}"
        path.unlink(missing_ok=True)
    try:
        with transaction.atomic():
            StagedFile.objects.filter(token=token, name=name).delete()
            StagedFile.objects.create(
                token=token, name=name, stored=stored, facts=facts, refusal=refusal
            )
    except IntegrityError:
        path.unlink(missing_ok=True)
        raise ArkundError(f"{name} arrived twice at once; drop it again.") from None


def _staged(token: str) -> dict[str, Any]:
    rows = list(StagedFile.objects.filter(token=token).order_by("name"))
    good = [r for r in rows if not r.refusal]
    guesses = dict(zip((r.name for r in good), guess_roles([r.name for r in good]), strict=True))
    return {
        "files": [
            {
                "name": r.name, **r.facts, "refusal": r.refusal,
                "mic": str(guesses[r.name].mic) if r.name in guesses else "",
                "sure": guesses[r.name].confidence >= 0.5 if r.name in guesses else False,
            }
            for r in rows
        ]
    }  # fmt: skip


@require_POST
def make(request: HttpRequest, token: str) -> JsonResponse:
    """Start making the song of what was staged."""
    data = body(request)
    name = str(data.get("name", "")).strip()
    if not name:
        raise ArkundError("Give the song a name.")
    if len(name) > 120:
        raise ArkundError("The song's name is too long; 120 letters are enough.")
    meter = str(data.get("meter") or "4/4")
    try:
        parse_meter(meter)
        tempo = float(data["tempo"]) if data.get("tempo") else None
    except ValueError as error:
        text = str(error)
        raise ArkundError(text if "meter" in text else "The tempo is not a number.") from None
    if tempo is not None and not 20 <= tempo <= 400:
        raise ArkundError("The tempo must lie between 20 and 400 BPM.")
    files = [f for f in data.get("files", []) if isinstance(f, dict) and f.get("mic")]
    if not files:
        raise ArkundError("Drop the mics' files first.")
    for f in files:
        try:
            parse_mic_name(str(f["mic"]))
        except ValueError as error:
            raise ArkundError(f"{f.get('name')}: {error}") from None
    params = {
        "token": token, "name": name, "tempo": tempo, "meter": meter, "pad": bool(data.get("pad")),
        "resample": int(data["resample"]) if data.get("resample") else None,
        "files": [{"name": str(f["name"]), "mic": str(f["mic"]), "pick": str(f.get("pick", "mono"))}
                  for f in files],
    }  # fmt: skip
    return JsonResponse({"job": jobs.enqueue("import", None, params).pk})


@require_GET
def job(request: HttpRequest, number: int) -> JsonResponse:
    row = get_object_or_404(Job, pk=number)
    return JsonResponse(
        {"state": row.state, "share": row.share, "message": row.message, "result": row.result}
    )


@require_POST
def cancel_job(request: HttpRequest, number: int) -> JsonResponse:
    row = get_object_or_404(Job, pk=number)
    Job.objects.filter(pk=row.pk).update(cancel_asked=True)
    Job.objects.filter(pk=row.pk, state=Job.State.QUEUED).update(
        state=Job.State.CANCELLED, message="Cancelled before it began."
    )
    return JsonResponse({"ok": True})
