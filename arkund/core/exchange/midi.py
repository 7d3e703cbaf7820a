"""Hits and tempo map as a standard MIDI file, and back."""

from collections.abc import Sequence
from pathlib import Path

import mido
import numpy as np

from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family
from arkund.core.timing.grid import Change, Grid

TICKS = 960
"""Ticks to a quarter note."""

NOTES = {
    "kick": 36,
    "snare": 38,
    "hat": 42,
    "ride": 51,
    "crash_1": 49,
    "crash_2": 57,
    "tom_1": 48,
    "tom_2": 45,
    "tom_3": 43,
    "tom_4": 41,
}
"""Note of each piece, by the percussion key map of General MIDI."""

_FAMILY_NOTES = {
    "kick": 35,
    "snare": 40,
    "tom": 47,
    "hat": 46,
    "ride": 59,
    "crash": 55,
    "cymbal": 55,
}
LENGTH = TICKS // 16


def write_midi(path: Path, grid: Grid, hits: Sequence[Hit] = ()) -> None:
    """Tempo, meter and hits to a type 1 file whose first bar is bar 1.

    Strokes before bar 1 are left out. A tempo in MIDI is a whole number of microseconds a quarter
    note, so times come back within some µs a minute.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    tempo = mido.MidiTrack()
    file.tracks.append(tempo)
    at = 0
    for change in [Change(1, grid.bpm, grid.beats, grid.unit), *grid.changes]:
        tick = round(grid.quarters_of_bar(change.bar) * TICKS)
        tempo.append(
            mido.MetaMessage(
                "time_signature", numerator=change.beats, denominator=change.unit, time=tick - at
            )
        )
        tempo.append(mido.MetaMessage("set_tempo", tempo=round(60e6 / change.bpm)))
        at = tick
    if hits:
        file.tracks.append(_note_track(grid, hits))
    part = path.with_name(path.name + ".part")
    file.save(part)
    part.replace(path)


def _note_track(grid: Grid, hits: Sequence[Hit]) -> mido.MidiTrack:
    places = grid.quarters_at(np.array([h.time_s for h in hits]))
    events = []
    for hit, place in zip(hits, places, strict=True):
        if place < 0:
            continue
        tick, note = round(float(place) * TICKS), note_of(hit.piece)
        events.append(
            (tick, 1, mido.Message("note_on", channel=9, note=note, velocity=hit.velocity))
        )
        events.append((tick + LENGTH, 0, mido.Message("note_off", channel=9, note=note)))
    track = mido.MidiTrack([mido.MetaMessage("track_name", name="drums")])
    at = 0
    for tick, _, message in sorted(events, key=lambda e: e[:2]):
        track.append(message.copy(time=tick - at))
        at = tick
    return track


def note_of(piece: str) -> int:
    """The note that a piece is written as."""
    return NOTES.get(piece, _FAMILY_NOTES.get(piece_family(piece), 39))


def read_tempo(path: Path, first_downbeat_s: float = 0.0) -> Grid:
    """The tempo map of a MIDI file, its first bar as bar 1.

    Changes within a bar count from the next bar line on. Raises `ArkundError` where the file
    cannot be read or holds no tempo.
    """
    try:
        file = mido.MidiFile(path, clip=True)
    except (OSError, EOFError, ValueError, KeyError, IndexError):
        raise ArkundError(
            f"{path.name} is not a MIDI file that can be read. Export a standard MIDI file (.mid) "
            "with the tempo track, and bring that."
        ) from None
    if file.type == 2 or file.ticks_per_beat <= 0:
        raise ArkundError(f"{path.name} has no tempo map in quarter notes.")
    found: list[tuple[float, str, tuple[float, ...]]] = []
    for track in file.tracks:
        at = 0
        for message in track:
            at += message.time
            quarters = at / file.ticks_per_beat
            if message.type == "set_tempo" and message.tempo > 0:
                found.append((quarters, "tempo", (60e6 / message.tempo,)))
            elif message.type == "time_signature":
                found.append((quarters, "meter", (message.numerator, message.denominator)))
    if not any(kind == "tempo" for _, kind, _ in found):
        raise ArkundError(f"{path.name} holds no tempo.")
    return _grid_of(sorted(found, key=lambda f: f[0]), first_downbeat_s)


def _grid_of(found: list[tuple[float, str, tuple[float, ...]]], first_downbeat_s: float) -> Grid:
    bpm, beats, unit = 120.0, 4, 4
    changes: list[Change] = []
    for quarters, kind, values in found:
        if kind == "tempo":
            bpm = round(values[0], 4)
        else:
            beats, unit = int(values[0]), int(values[1])
        first = changes[0] if changes else Change(1, bpm)
        so_far = Grid(first.bpm, first.beats, first.unit, 0.0, tuple(changes[1:]))
        bar = 1 + max(0, int(np.ceil(so_far.bar_at(_seconds(so_far, quarters)) - 1 - 1e-6)))
        change = Change(bar, bpm, beats, unit)
        if changes and changes[-1].bar == bar:
            changes[-1] = change
        elif not changes:
            changes.append(Change(1, bpm, beats, unit))
        else:
            changes.append(change)
    first = changes[0]
    return Grid(first.bpm, first.beats, first.unit, first_downbeat_s, tuple(changes[1:]))


def _seconds(grid: Grid, quarters: float) -> float:
    return float(grid.seconds_of(np.array([quarters]))[0])
