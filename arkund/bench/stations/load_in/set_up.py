"""Correcting the set-up of a song: roles, mics out of use, overdubs, files under mics."""

from collections.abc import Mapping
from typing import Annotated, Any, ClassVar

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST
from pydantic import Field, StringConstraints

from arkund.bench.requests import Change, Line, Number, body, song_named
from arkund.bench.views.songs import StagedName
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import parse_mic_name
from arkund.songs import jobs

MicText = Annotated[str, StringConstraints(strip_whitespace=True, to_lower=True, max_length=40)]
Why = Annotated[Line, Field(max_length=200)]


class SwappedFile(StagedName):
    """A staged file for a mic of a take."""

    take: Annotated[Number, Field(ge=1, le=999)] = 1


class SetUp(Change):
    """What is to be different, by mic; ``files`` were staged under ``token``."""

    refusal: ClassVar[str] = (
        "Say what is to be different about the set-up, and of which revision that is said."
    )
    refusals: ClassVar[Mapping[str, str]] = {
        "files": "A file needs its name and the mic it is for; its take is a whole number such as 2."
    }
    names: dict[MicText, MicText] = Field({}, max_length=64)
    unused: dict[MicText, Why] = Field({}, max_length=64)
    overdubs: dict[MicText, bool] = Field({}, max_length=64)
    token: Annotated[Line, Field(max_length=40)] = ""
    files: tuple[SwappedFile, ...] = Field((), max_length=64)


@require_POST
def start(request: HttpRequest, slug: str) -> JsonResponse:
    """Start the job that makes the set-up what ``names``, ``unused``, ``overdubs`` and ``files``
    say; ``files`` were staged under ``token``."""
    song, asked = song_named(slug), body(request, SetUp)
    if not (asked.names or asked.unused or asked.overdubs or asked.files):
        raise ArkundError("Say what is to be different about the set-up.")
    for name in [*asked.names.values(), *(f.mic for f in asked.files)]:
        _refuse_unknown(name)
    params: dict[str, Any] = asked.model_dump(mode="json")
    return JsonResponse({"job": jobs.enqueue("set-up", song, params).pk})


def _refuse_unknown(name: str) -> None:
    try:
        parse_mic_name(name)
    except ValueError as error:
        raise ArkundError(str(error)) from None
