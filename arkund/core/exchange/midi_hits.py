"""Hits of a MIDI file: which drum a note is, and where the file lies against the sound."""

from collections import Counter
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import mido
import numpy as np
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.exchange.tables import HitRow
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import label, piece_family, sort_pieces
from arkund.core.timing.lineup import lag_between

LARGEST_BYTES = 8_000_000
MOST_NOTES = 100_000
DRUM_CHANNEL = 9

FAMILY_OF_NOTE = {
    **dict.fromkeys((35, 36), "kick"),
    **dict.fromkeys((37, 38, 40), "snare"),
    **dict.fromkeys((42, 44, 46), "hat"),
    **dict.fromkeys((49, 52, 55, 57), "crash"),
    **dict.fromkeys((51, 53, 59), "ride"),
    **dict.fromkeys((41, 43, 45, 47, 48, 50), "tom"),
}
"""What the percussion key map of General MIDI calls a drum of these families."""

TOM_OF_NOTE = {50: 1, 48: 1, 47: 2, 45: 2, 43: 3, 41: 4}
SECOND_CRASHES = (55, 57)

SAME_HIT_S, SAME_PLACE_S = 0.025, 0.005
"""A note so near to a hit of its drum is that hit; so near it lies where that does."""


class Note(NamedTuple):
    """A note: seconds from the file's beginning, its number, velocity 1–127."""

    time_s: float
    number: int
    velocity: int


def read_notes(path: Path) -> list[Note]:
    """The notes of a standard MIDI file by its own tempos: those of the drum channel, or all where that has
    none. Raises `ArkundError` where it is too large, cannot be read, or has no notes."""
    if not path.is_file():
        raise ArkundError(f"There is no file {path.name}.")
    if path.stat().st_size > LARGEST_BYTES:
        raise ArkundError(f"{path.name} is larger than {LARGEST_BYTES // 1_000_000} MB.")
    found: list[Note] = []
    on_drums: list[Note] = []
    at = 0.0
    try:
        for message in mido.MidiFile(path, clip=True):
            at += message.time
            if message.type == "note_on" and message.velocity:
                note = Note(at, message.note, message.velocity)
                found.append(note)
                if message.channel == DRUM_CHANNEL:
                    on_drums.append(note)
            if len(found) > MOST_NOTES:
                raise ArkundError(f"{path.name} has more than {MOST_NOTES} notes.")
    except ArkundError:
        raise
    except Exception:  # the library lets out whatever it stumbles on, its own kinds included
        raise ArkundError(
            f"{path.name} is not a MIDI file that can be read. Export a standard MIDI file (.mid)."
        ) from None
    if not found:
        raise ArkundError(f"{path.name} has no notes.")
    return on_drums or found


def piece_of_note(number: int, kit: Sequence[str]) -> str | None:
    """The piece of a kit that a note stands for; None where it has none such. A kit with fewer toms or
    crashes plays them on its last one."""
    family = FAMILY_OF_NOTE.get(number)
    own = sort_pieces(piece for piece in kit if piece_family(piece) == family)
    if not own:
        return None
    place = {"tom": TOM_OF_NOTE.get(number, 1), "crash": 1 + (number in SECOND_CRASHES)}
    return own[min(place.get(family or "", 1), len(own)) - 1]


class Mapped(NamedTuple):
    """A note of a file: its number, how often it is played, and the piece that it is taken for (None: none)."""

    number: int
    times: int
    piece: str | None


def mapped(notes: Sequence[Note], kit: Sequence[str]) -> list[Mapped]:
    """The notes that a file has, by number, with what `piece_of_note` makes of each."""
    count = Counter(note.number for note in notes)
    return [Mapped(n, count[n], piece_of_note(n, kit)) for n in sorted(count)]


def rows_of(
    notes: Sequence[Note],
    heard: Sequence[Hit],
    kit: Sequence[str],
    pieces: Mapping[int, str] | None = None,
    begins_s: float | None = None,
) -> list[HitRow]:
    """Notes as hits of the song: each known by the hit of its drum that it lies on, if it lies on one.

    ``pieces`` says of notes which piece they are (empty: none, left out) before `piece_of_note` does. ``begins_s`` is
    where the file begins in the song; without it that is found by the hits ``heard``. Raises `ArkundError` where a
    note is no drum, or the notes fit the sound nowhere.
    """
    said = {number: piece_of_note(number, kit) for number in {note.number for note in notes}}
    said |= {number: piece for number, piece in (pieces or {}).items() if number in said}
    unknown = sorted(number for number, piece in said.items() if piece is None)
    if unknown:
        raise ArkundError(
            f"Note {unknown[0]} is no drum of this kit. Say which it is ({unknown[0]}=snare), or leave it out "
            f"({unknown[0]}=). Pieces: {', '.join(kit)}."
        )
    if wrong := sorted({piece for piece in said.values() if piece and piece not in kit}):
        raise ArkundError(f"The kit has no {label(wrong[0])}. Pieces: {', '.join(kit)}.")
    placed = [(said[note.number] or "", note) for note in notes if said[note.number]]
    if begins_s is None:
        begins_s = _begin_of(placed, heard)
    return _known_by_hits(placed, heard, begins_s)


def read_map(text: str) -> dict[int, str]:
    """Notes and their pieces as they are typed, ``39=snare, 54=``. Raises `ArkundError`."""
    out = {}
    for part in filter(None, (one.strip() for one in text.split(","))):
        number, equals, piece = part.partition("=")
        if not equals or not number.strip().isdecimal() or int(number) > 127:
            raise ArkundError(f"“{part[:40]}” is no note and drum such as 39=snare.")
        out[int(number)] = piece.strip().replace(" ", "_")
    return out


def _begin_of(placed: Sequence[tuple[str, Note]], heard: Sequence[Hit]) -> float:
    """Where the file begins in the song, by the hits that fall together then."""
    theirs = [
        Hit(str(n), piece, note.time_s, note.velocity, "plain", 1.0, 0.0)
        for n, (piece, note) in enumerate(placed)
    ]
    lag = lag_between(heard, theirs)
    if lag is None:
        raise ArkundError(
            "The notes fit the recording nowhere. If they belong to it, say at which second of the song the file "
            "begins."
        )
    return -lag


def _known_by_hits(
    placed: Sequence[tuple[str, Note]], heard: Sequence[Hit], begins_s: float
) -> list[HitRow]:
    own: dict[str, list[Hit]] = {}
    for hit in sorted(heard, key=lambda hit: hit.time_s):
        own.setdefault(hit.piece, []).append(hit)
    times = {piece: np.array([hit.time_s for hit in hits]) for piece, hits in own.items()}
    taken: set[str] = set()
    rows = []
    for piece, note in placed:
        at = note.time_s + begins_s
        near = _nearest(own.get(piece, []), times.get(piece), at)
        if near is None or near.id in taken:
            rows.append(HitRow("", piece, at, note.velocity, ""))
            continue
        taken.add(near.id)
        is_there = abs(at - near.time_s) <= SAME_PLACE_S
        rows.append(HitRow(near.id, piece, near.time_s if is_there else at, note.velocity, ""))
    return rows


def _nearest(hits: Sequence[Hit], times: NDArray[np.float64] | None, at: float) -> Hit | None:
    if times is None or not len(hits):
        return None
    near = hits[int(np.argmin(np.abs(times - at)))]
    return near if abs(near.time_s - at) <= SAME_HIT_S else None
