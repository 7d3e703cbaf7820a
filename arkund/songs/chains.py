"""Chains of a stored song copied from drum to drum."""

from collections.abc import Sequence
from typing import Any

from arkund.core.advise.adapting import copied
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import label
from arkund.core.process.registry import BY_KIND
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import read_path
from arkund.core.sheet.sheet import Sheet
from arkund.songs import revisions
from arkund.songs.models import Revision, Song
from arkund.songs.studies import study_of
from arkund.songs.timing import sheet_of
from arkund.songs.wording import path_words, value_words


def fitted(song: Song, source: str, target: str, kinds: Sequence[str] = ()) -> dict[str, Any]:
    """What a copy of one mic's chain would set on another: the ``patch``, and ``rows`` of what it is, now and
    then. Raises `ArkundError`."""
    sheet = sheet_of(song)
    for mic in (source, target):
        if mic not in sheet.mics:
            raise ArkundError(f"There is no mic “{mic[:40]}”. Mics: {', '.join(sheet.mics)}.")
    if unknown := [k for k in kinds if k not in BY_KIND]:
        raise ArkundError(f"There is no stage “{unknown[0][:40]}”. Stages: {', '.join(BY_KIND)}.")
    patch = completed(sheet, copied(study_of(sheet), source, target, kinds))
    return {"patch": patch, "rows": [_row(sheet, path, value) for path, value in patch.items()]}


def keep_fitted(song: Song, source: str, target: str, patch: dict[str, Any]) -> Revision:
    """Keep what `fitted` found as a revision."""
    assert song.current is not None
    words = f"{label(target)}: chain of {label(source)}, fitted to it"
    return revisions.keep(song.pk, song.current.number, patch, label=words, station="eq")


def _row(sheet: Sheet, path: str, value: Any) -> dict[str, str]:
    _, what, unit = path_words(path, sheet)
    if isinstance(value, dict):
        return {"what": what or path.rpartition(".")[2], "now": "–", "then": "added"}
    if value is None:
        return {"what": what, "now": "there", "then": "removed"}
    return {
        "what": what,
        "now": value_words(read_path(sheet, path), unit),
        "then": value_words(value, unit),
    }
