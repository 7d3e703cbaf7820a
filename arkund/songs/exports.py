"""What a song gives to other programs, and hits taken over from a file."""

from collections.abc import Mapping
from pathlib import Path

from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import write_midi
from arkund.core.exchange.midi_hits import Mapped, mapped, read_notes, rows_of
from arkund.core.exchange.tables import edits_csv, hits_csv, read_hits_csv, read_text
from arkund.core.hits.confidence import EXPORTED
from arkund.core.sheet.sheet import Sheet, dump
from arkund.songs import findings, kits, storage
from arkund.songs.facts import hits_of
from arkund.songs.hits import known_pieces, take_over
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import grid_of
from arkund.songs.timing import edits_of, sheet_of


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


def notes_of(song: Song, path: Path) -> list[Mapped]:
    """The notes of a file, with the piece that each is taken for; none of a CSV, which names its
    pieces. Raises `ArkundError`."""
    if not _is_midi(path.name):
        return []
    return mapped(read_notes(path), known_pieces(sheet_of(song)))


def import_hits(
    song: Song,
    path: Path,
    *,
    pieces: Mapping[int, str] | None = None,
    begins_s: float | None = None,
    base: int | None = None,
) -> Revision:
    """The hits of a CSV or MIDI file in place of the song's (`take_over`). Of a MIDI file ``pieces``
    says which piece a note is, and ``begins_s`` where it begins in the song (found by the sound without it).
    Raises `ArkundError`."""
    if not _is_midi(path.name):
        return take_over(song, read_hits_csv(read_text(path)), path.name, base)
    sheet = sheet_of(song)
    rows = rows_of(read_notes(path), hits_of(sheet), known_pieces(sheet), pieces, begins_s)
    return take_over(song, rows, path.name, base)


def _is_midi(name: str) -> bool:
    return name.lower().endswith((".mid", ".midi"))
