"""What a song gives to other programs, and settings taken over from a file."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import write_midi
from arkund.core.exchange.midi_hits import read_notes, rows_of
from arkund.core.exchange.tables import edits_csv, hits_csv, read_hits_csv, read_text
from arkund.core.hits.confidence import EXPORTED
from arkund.core.sheet.settable import is_settable
from arkund.core.sheet.sheet import Sheet, dump, load
from arkund.songs import findings, kits, revisions, storage
from arkund.songs.facts import hits_of
from arkund.songs.hits import known_pieces, take_over
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import grid_of
from arkund.songs.timing import edits_of, sheet_of

LARGEST_SHEET = 50_000_000
"""What one song can take over from another's sheet; sources, takes and times are a song's own."""


def doubtful(sheet: Sheet, least: float = EXPORTED) -> int:
    """How many hits are less sure than ``least``, and so are no notes for other programs."""
    return sum(h.confidence < least for h in hits_of(sheet))


def export(song: Song, kind: str, path: Path, least: float = EXPORTED) -> list[Path]:
    """Write ``midi`` (hits as heard that are at least so sure, with the tempo map), ``csv`` (all
    hits, with how sure they are; edits beside them as ``…-edits.csv``), ``json`` (the sheet) or
    ``sfz`` (a folder with the song's own hits as a kit).
    Returns the files written."""
    sheet = sheet_of(song)
    if kind == "sfz":
        return kits.write_kit(findings.study_of_song(song), path)
    grid, hits = grid_of(sheet), hits_of(sheet)
    if not path.parent.is_dir():
        raise ArkundError(f"There is no folder {path.parent} to write into.")
    if kind == "midi":
        write_midi(path, grid, [h for h in hits if h.confidence >= least])
        return [path]
    if kind == "json":
        storage.write_atomically(path, dump(sheet).encode())
        return [path]
    beside = path.with_name(f"{path.stem}-edits.csv")
    storage.write_atomically(path, hits_csv(hits, grid).encode())
    storage.write_atomically(beside, edits_csv(edits_of(sheet), grid).encode())
    return [path, beside]


def import_hits(
    song: Song,
    path: Path,
    *,
    name: str = "",
    pieces: Mapping[int, str] | None = None,
    begins_s: float | None = None,
    base: int | None = None,
) -> Revision:
    """The hits of a CSV or MIDI file, called ``name``, in place of the song's (`take_over`). Of a MIDI file ``pieces``
    says which piece a note is, and ``begins_s`` where it begins in the song (found by the sound without it).
    Raises `ArkundError`."""
    name = name or path.name
    if not name.lower().endswith((".mid", ".midi")):
        return take_over(song, read_hits_csv(read_text(path)), name, base)
    sheet = sheet_of(song)
    rows = rows_of(read_notes(path), hits_of(sheet), known_pieces(sheet), pieces, begins_s)
    return take_over(song, rows, name, base)


def import_sheet(song: Song, path: Path) -> Revision:
    """Take over mics', buses' and drum-bus settings of a sheet, mic by mic where names are the
    same; one revision. Raises `ArkundError` where it cannot be read or no mic is the same."""
    try:
        if path.stat().st_size > LARGEST_SHEET:
            raise ArkundError(f"{path.name} is too large for a sheet.")
        theirs = load(path.read_text())
    except (OSError, UnicodeDecodeError):
        raise ArkundError(f"{path.name} could not be read as a sheet.") from None
    assert song.current is not None
    ours = song.current.sheet
    if not set(ours.mics) & set(theirs.mics):
        raise ArkundError(f"{path.name} has no mic that “{song.name}” has.")
    return revisions.keep(
        song.pk,
        song.current.number,
        _settings(ours, theirs),
        label=f"Settings taken over from {path.name}",
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
    patch: dict[str, Any] = {}
    same_sound = [t.sources for t in ours.takes] == [t.sources for t in theirs.takes]
    for name in set(ours.mics) & set(theirs.mics):
        own = ours.mics[name].model_dump(mode="json")
        other = theirs.mics[name].model_dump(mode="json")
        # Repairs name places in the sound: they hold for the same recording only.
        keys = {k for k in own if is_settable(f"mics.{name}.{k}")}
        keys -= set() if same_sound else {"repair"}
        other["clean"] = _fitting_gate(own["clean"], other["clean"], same_sound, ours)
        patch |= {f"mics.{name}.{k}": other[k] for k in sorted(keys) if own[k] != other[k]}
    mics = set(ours.mics)
    given = theirs.model_dump(mode="json")
    groups = {**ours.model_dump(mode="json")["groups"], **given["groups"]}
    sources = {*mics, *groups, *given["buses"]}
    for bus in given["buses"].values():
        bus["sends"] = {m: send for m, send in bus["sends"].items() if m in sources}
    patch |= {"groups": groups, "buses": given["buses"], "drum_bus": given["drum_bus"]}
    if same_sound:
        patch |= {
            k: theirs.model_dump(mode="json")[k]
            for k in ("tempo", "sections", "comp", "copies", "timing", "over")
        }
    return patch
