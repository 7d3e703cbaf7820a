"""Chains copied from drum to drum of a stored song, and chains of one's own that go from song to song."""

from collections.abc import Sequence
from dataclasses import asdict
from typing import Any

from pydantic import TypeAdapter, ValidationError

from arkund.core.advise.adapting import Chain, Landmarks, added, chain_of, copied
from arkund.core.errors import ArkundError
from arkund.core.kit.roles import label
from arkund.core.process.registry import BY_KIND, AnyStage
from arkund.core.sheet.pairs import completed
from arkund.core.sheet.patches import read_path
from arkund.core.sheet.sheet import Sheet
from arkund.songs import revisions
from arkund.songs.models import OwnChain, Revision, Song
from arkund.songs.studies import study_of
from arkund.songs.timing import sheet_of
from arkund.songs.wording import path_words, value_words


def fitted(song: Song, source: str, target: str, kinds: Sequence[str] = ()) -> dict[str, Any]:
    """What a copy of one mic's chain would set on another: the ``patch``, and ``rows`` of what it is, now and
    then. Raises `ArkundError`."""
    sheet = sheet_of(song)
    for mic in (source, target):
        _mic_at(sheet, mic)
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


STAGES = TypeAdapter(tuple[AnyStage, ...])
LONGEST_NAME = 40


def save(song: Song, path: str, name: str) -> OwnChain:
    """Keep a mic's chain under a name, with what it is set by; one of that name is replaced. Raises
    `ArkundError`."""
    name = name.strip()
    if not 0 < len(name) <= LONGEST_NAME:
        raise ArkundError(f"Give the chain a name of up to {LONGEST_NAME} characters.")
    sheet = sheet_of(song)
    chain = chain_of(study_of(sheet), _mic_at(sheet, path))
    said = {
        "piece": chain.piece,
        "landmarks": asdict(chain.landmarks),
        "stages": STAGES.dump_python(chain.stages, mode="json"),
    }
    return OwnChain.objects.update_or_create(name=name, defaults=said)[0]


def use(song: Song, base: int, path: str, name: str) -> Revision:
    """Add an own chain behind a mic's, fitted to its drum and bypassed, as a revision. Raises `ArkundError`."""
    sheet = sheet_of(song, base)
    own = OwnChain.objects.filter(name__iexact=name.strip()).first()
    if own is None:
        names = ", ".join(one.name for one in OwnChain.objects.all()) or "none yet"
        raise ArkundError(f"There is no chain “{name[:40]}”. Chains: {names}.")
    chain = Chain(own.piece, Landmarks(**own.landmarks), _stages_of(own))
    mic = _mic_at(sheet, path)
    words = f"{label(mic)}: chain {own.name} added, bypassed until it is heard"
    patch = added(study_of(sheet), chain, mic)
    return revisions.keep(song.pk, base, patch, label=words, station="eq")


def _stages_of(own: OwnChain) -> tuple[Any, ...]:
    """The stages of an own chain; raises `ArkundError` where another version saved them otherwise."""
    try:
        return STAGES.validate_python(own.stages)
    except ValidationError:
        raise ArkundError(
            f"The chain “{own.name}” was saved by another version of Arkund; save it anew."
        ) from None


def owned() -> list[dict[str, Any]]:
    """One's own chains: name, drum, and the stages in order."""
    return [
        {
            "name": own.name,
            "drum": label(own.piece),
            "stages": ", ".join(_label(one) for one in own.stages),
        }
        for own in OwnChain.objects.all()
    ]


def _label(stage: dict[str, Any]) -> str:
    kind = str(stage.get("kind"))
    return BY_KIND[kind].label if kind in BY_KIND else kind


def _mic_at(sheet: Sheet, path: str) -> str:
    """The mic of a path: ``snare_top`` or ``mics.snare_top``."""
    mic = path.removeprefix("mics.")
    if mic not in sheet.mics:
        raise ArkundError(f"There is no mic “{mic[:40]}”. Mics: {', '.join(sheet.mics)}.")
    return mic
