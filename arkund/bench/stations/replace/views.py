"""Replace: laying something under a drum, and patching single hits."""

import tempfile
from pathlib import Path
from typing import ClassVar, Literal

from django.core.files.uploadedfile import UploadedFile
from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import Asked, Change, Line, body, song_named
from arkund.bench.views.changes import answer
from arkund.core.errors import ArkundError
from arkund.songs import replacing, stock
from arkund.songs.models import SampleSet, Song
from arkund.songs.timing import sheet_of


class Added(Change):
    """A layer or a sub layer for the piece that a mic is close to."""

    refusal: ClassVar[str] = (
        "Say which mic's drum gets a layer, and whether it is a layer or a sub."
    )
    mic: Line
    what: Literal["layer", "sub"]
    source: Line = "song"


@require_POST
def add(request: HttpRequest, slug: str) -> JsonResponse:
    """Lay hits of the drum, the simulated kit or the stock, or a tone, under it; made from revision
    ``base``."""
    song, asked = song_named(slug), body(request, Added)
    piece = _piece(song, asked.mic)
    if asked.what == "sub":
        return answer(replacing.sub(song, piece, base=asked.base))
    if asked.source not in (value for value, _ in stock.sources(piece)):
        # Paths are for the command line: a page names no files of this machine.
        raise ArkundError("Those hits are not in the stock any more; reload the page.")
    return answer(replacing.layer(song, piece, asked.source, base=asked.base))


def _piece(song: Song, mic: str) -> str:
    found = sheet_of(song).mics.get(mic)
    if found is None or found.name.piece is None:
        raise ArkundError("Layers follow a close mic; choose kick, snare, a tom, hat or ride.")
    return found.name.piece


class Kept(Asked):
    """The mic whose drum's hits go into the stock, and under which name."""

    refusal: ClassVar[str] = "Say which mic's hits are to be kept."
    mic: Line
    name: Line = ""


@require_POST
def keep(request: HttpRequest, slug: str) -> JsonResponse:
    """Keep the drum's own hits in the stock."""
    song, asked = song_named(slug), body(request, Kept)
    made = stock.keep_own(song, _piece(song, asked.mic), asked.name)
    return _said(made, "")


class Removed(Asked):
    """The set that is taken out of the stock."""

    refusal: ClassVar[str] = "Say which set is to be removed."
    name: Line


@require_POST
def remove(request: HttpRequest, slug: str) -> JsonResponse:
    """Take a set out of the stock."""
    song_named(slug)
    stock.remove(body(request, Removed).name)
    return JsonResponse({"said": "Taken out of the stock. Layers that use it keep their hits."})


MOST_FILES, LARGEST = 256, 400_000_000


@require_POST
def upload(request: HttpRequest, slug: str) -> JsonResponse:
    """Put uploaded samples into the stock: single hits, one recording of several, or an SFZ kit with
    its sounds."""
    song = song_named(slug)
    piece = _piece(song, str(request.POST.get("mic", ""))[:80])
    sent = request.FILES.getlist("files")
    if not sent or len(sent) > MOST_FILES:
        raise ArkundError(
            f"Choose 1 to {MOST_FILES} files: samples, one recording of single hits, or an "
            "SFZ file with its sounds."
        )
    if sum(one.size or 0 for one in sent) > LARGEST:
        raise ArkundError("These files are more than 400 MB; samples are short.")
    with tempfile.TemporaryDirectory() as scratch:
        paths = [_written(Path(scratch), one) for one in sent]
        kit = next((p for p in paths if p.suffix.lower() == ".sfz"), None)
        whole = kit or (paths[0] if len(paths) == 1 else Path(scratch))
        more = "" if kit or len(paths) == 1 else f" and {len(paths) - 1} more"
        name = str(request.POST.get("name", ""))[:200].strip() or (kit or paths[0]).stem + more
        count = f"{len(paths)} file{'' if len(paths) == 1 else 's'}"
        made, note = stock.keep_files(song, piece, whole, name, count)
    return _said(made, note)


def _written(folder: Path, sent: UploadedFile) -> Path:
    """The file by the last part of its name, whatever else that says."""
    name = "".join(c for c in Path(str(sent.name).replace("\\", "/")).name if c.isprintable())[
        -120:
    ]
    name = f"sample{name}" if name.startswith(".") else name or "sample.wav"
    path, number = folder / name, 2
    while path.exists():  # two folders may hold files of one name
        path, number = folder / f"{Path(name).stem} {number}{Path(name).suffix}", number + 1
    with path.open("wb") as out:
        for chunk in sent.chunks():
            out.write(chunk)
    return path


def _said(made: SampleSet, note: str) -> JsonResponse:
    count = len(made.samples)
    said = f"{count} hit{'' if count == 1 else 's'} in the stock as “{made.name}”."
    return JsonResponse(
        {"said": " ".join([said, note]).strip(), "source": f"{stock.PREFIX}{made.name}"}
    )


class Trimmed(Change):
    """A layer's sample, counted from 1, and what of it is to change, in ms."""

    refusal: ClassVar[str] = "Say which sample is to be trimmed, and to how many ms."
    layer: Line
    number: int
    length_ms: float | None = None
    fade_in_ms: float | None = None
    fade_out_ms: float | None = None


@require_POST
def trim(request: HttpRequest, slug: str) -> JsonResponse:
    """Cut and fade one sample of a layer; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Trimmed)
    made = replacing.trim_sample(
        song,
        asked.layer,
        asked.number,
        length_ms=asked.length_ms,
        fade_in_ms=asked.fade_in_ms,
        fade_out_ms=asked.fade_out_ms,
        base=asked.base,
    )
    return answer(made)


class Patched(Change):
    """A bad hit, and the one that stands in for it; the best match where none is said."""

    refusal: ClassVar[str] = "Say which hit is to be patched."
    hit: Line
    by: Line = ""


@require_POST
def patch(request: HttpRequest, slug: str) -> JsonResponse:
    """Replace one hit in all mics; made from revision ``base``."""
    song, asked = song_named(slug), body(request, Patched)
    return answer(replacing.patch_hit(song, asked.hit, asked.by, base=asked.base))
