"""Correcting the set-up of a song: roles, mics out of use, overdubs, files under mics."""

from django.http import HttpRequest, JsonResponse
from django.views.decorators.http import require_POST

from arkund.bench.requests import body, song_named
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import parse_mic_name
from arkund.songs import jobs

LONGEST_REASON = 200


@require_POST
def start(request: HttpRequest, slug: str) -> JsonResponse:
    """Start the job that makes the set-up what ``names``, ``unused``, ``overdubs`` and ``files``
    say; ``files`` were staged under ``token``."""
    song, data = song_named(slug), body(request)
    base = data.get("base")
    names, unused, overdubs = (data.get(k) or {} for k in ("names", "unused", "overdubs"))
    files = data.get("files") or []
    whole = all(isinstance(part, dict) for part in (names, unused, overdubs, *files))
    if not isinstance(base, int) or not whole or not (names or unused or overdubs or files):
        raise ArkundError("Say what is to be different about the set-up.")
    try:
        wanted = [*names.values(), *(f["mic"] for f in files)]
        takes = [f.get("take", 1) for f in files]
        if not all(isinstance(n, int) for n in takes):
            raise ArkundError("A take is a whole number, such as 2.")
        for name in wanted:
            _refuse_unknown(str(name))
        params = {
            "base": base, "token": str(data.get("token", ""))[:40],
            "names": {str(m): str(n).strip().lower() for m, n in names.items()},
            "unused": {str(m): str(why)[:LONGEST_REASON] for m, why in unused.items()},
            "overdubs": {str(m): bool(one) for m, one in overdubs.items()},
            "files": [{"name": str(f["name"]), "mic": str(f["mic"]), "take": f.get("take", 1),
                       "pick": str(f.get("pick", "mono"))} for f in files],
        }  # fmt: skip
    except (KeyError, TypeError):
        raise ArkundError("A file needs its name and the mic it is for.") from None
    return JsonResponse({"job": jobs.enqueue("set-up", song, params).pk})


def _refuse_unknown(name: str) -> None:
    try:
        parse_mic_name(name)
    except ValueError as error:
        raise ArkundError(str(error)) from None
