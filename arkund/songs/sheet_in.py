"""Settings taken over from a sheet file: all of them, or those that were chosen.

Sources, takes and times are a song's own; what names places in the sound is taken over from the same recording only.
"""

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from arkund.core.errors import ArkundError, SheetError
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.settable import is_settable
from arkund.core.sheet.sheet import Sheet, load
from arkund.songs import revisions
from arkund.songs.comparing import differences
from arkund.songs.models import Revision, Song
from arkund.songs.timing import sheet_of
from arkund.songs.wording import path_words

LARGEST_SHEET = 50_000_000
SAME_SOUND_ALONE = ("tempo", "sections", "comp", "copies", "timing", "over")


@dataclass(frozen=True)
class Offer:
    """Something that a sheet sets otherwise: its ``path``, ``whose`` and ``what`` it is, the values in words as
    ``rows`` (here and in the file), and the ``value`` to set."""

    path: str
    whose: str
    what: str
    rows: tuple[dict[str, str], ...]
    value: Any


def read(path: Path, name: str = "") -> Sheet:
    """The sheet in a file, called ``name``. Raises `ArkundError` where there is none."""
    name = name or path.name
    try:
        if path.stat().st_size > LARGEST_SHEET:
            raise ArkundError(f"{name} is too large for a sheet.")
        return load(path.read_text())
    except (OSError, UnicodeDecodeError):
        raise ArkundError(f"{name} could not be read as a sheet.") from None


def offers(song: Song, theirs: Sheet, name: str) -> list[Offer]:
    """What a sheet sets otherwise than a song does. Raises `ArkundError` where no mic is the same."""
    ours = sheet_of(song)
    if not set(ours.mics) & set(theirs.mics):
        raise ArkundError(f"{name} has no mic that “{song.name}” has.")
    out = []
    for path, value in _settings(ours, theirs).items():
        try:
            rows = tuple(differences(ours, apply_patch(ours, {path: value})))
        except SheetError:
            # It rests on another of them, such as a bus on a group: it is taken over with all.
            rows = ()
        whose, what, _ = path_words(path, ours if value is None else theirs)
        out.append(Offer(path, whose, what, rows, value))
    return out


def take_over(
    song: Song,
    theirs: Sheet,
    name: str,
    chosen: Iterable[str] | None = None,
    base: int | None = None,
) -> Revision:
    """Set what a sheet sets otherwise, all of it or the ``chosen`` paths; one revision.

    Raises `ArkundError` where a path is none of them or nothing is left, `Conflict` where the song is past ``base``.
    """
    assert song.current is not None
    found = {offer.path: offer.value for offer in offers(song, theirs, name)}
    wanted = list(found) if chosen is None else list(chosen)
    if unknown := [path for path in wanted if path not in found]:
        raise ArkundError(f"{name} does not set {unknown[0][:80]} otherwise than the song does.")
    if not wanted:
        raise ArkundError(
            f"{name} sets nothing otherwise." if chosen is None else "Choose what to take over."
        )
    some = (
        "" if chosen is None or len(wanted) == len(found) else f" ({len(wanted)} of {len(found)})"
    )
    return revisions.keep(
        song.pk,
        song.current.number if base is None else base,
        {path: found[path] for path in wanted},
        label=f"Settings taken over from {name}{some}",
        station="log",
    )


def _fitting_gate(
    own: dict[str, Any], other: dict[str, Any], same_sound: bool, ours: Sheet
) -> dict[str, Any]:
    """Another song's gate as it fits this one: regions name places in the sound too, and a key that
    is not there leaves the gate to itself."""
    fitting = dict(other)
    if not same_sound:
        fitting["regions"] = own["regions"]
        if not fitting["regions"] and fitting["opens_on"] == "hand":
            fitting["opens_on"] = "hits"
    if fitting["key"]["source"] not in ("", *ours.mics):
        fitting["key"] = {**fitting["key"], "source": ""}
    return fitting


def _settings(ours: Sheet, theirs: Sheet) -> dict[str, Any]:
    """Everything that can be taken over and differs, by path: of mics value by value, of groups and buses each whole;
    None removes a bus that the other sheet does not have."""
    same_sound = [t.sources for t in ours.takes] == [t.sources for t in theirs.takes]
    here, there = ours.model_dump(mode="json"), theirs.model_dump(mode="json")
    patch: dict[str, Any] = {}
    for name in sorted(set(ours.mics) & set(theirs.mics)):
        own, other = here["mics"][name], there["mics"][name]
        # Repairs name places in the sound: they hold for the same recording only.
        keys = {k for k in own if is_settable(f"mics.{name}.{k}")}
        keys -= set() if same_sound else {"repair"}
        other["clean"] = _fitting_gate(own["clean"], other["clean"], same_sound, ours)
        patch |= {f"mics.{name}.{k}": other[k] for k in sorted(keys) if own[k] != other[k]}
    groups = {**here["groups"], **there["groups"]}
    sources = {*ours.mics, *groups, *there["buses"]}
    for bus in there["buses"].values():
        bus["sends"] = {m: send for m, send in bus["sends"].items() if m in sources}
    for table, wanted in (("groups", groups), ("buses", there["buses"])):
        for name in sorted({*here[table], *wanted}):
            if here[table].get(name) != wanted.get(name):
                patch[f"{table}.{name}"] = wanted.get(name)
    parts = ("drum_bus", *(SAME_SOUND_ALONE if same_sound else ()))
    return patch | {part: there[part] for part in parts if here[part] != there[part]}
