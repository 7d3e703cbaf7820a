"""Hits and tempo map as a standard MIDI file, and back."""

from collections.abc import Sequence
from pathlib import Path
from typing import get_args

import mido
import numpy as np

from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import piece_family
from arkund.core.timing.grid import (
    FASTEST_BPM,
    LAST_BAR,
    MOST_BEATS,
    SLOWEST_BPM,
    Change,
    Grid,
    Unit,
)

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
LARGEST_BYTES = 1_000_000
MOST_CHANGES = 10_000


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
    is larger than `LARGEST_BYTES` (it is not read then), cannot be read, holds no tempo, or one that
    a sheet cannot hold.
    """
    if not path.is_file():
        raise ArkundError(f"There is no file {path.name}.")
    if path.stat().st_size > LARGEST_BYTES:
        raise ArkundError(
            f"{path.name} is larger than 1 MB, too large for a tempo map. Export the tempo track "
            "alone."
        )
    try:
        file = mido.MidiFile(path, clip=True)
    except Exception:  # the library lets out whatever it stumbles on, its own kinds included
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
    if len(found) > MOST_CHANGES:
        raise ArkundError(
            f"{path.name} has {len(found)} changes of tempo and meter; {MOST_CHANGES} at most can be "
            "used."
        )
    grid = _grid_of(sorted(found, key=lambda f: f[0]), first_downbeat_s)
    for change in [Change(1, grid.bpm, grid.beats, grid.unit), *grid.changes]:
        _refuse_odd(path.name, change)
    return grid


def _refuse_odd(name: str, change: Change) -> None:
    """Raises `ArkundError` for a tempo or meter that no tempo map holds."""
    if change.unit not in get_args(Unit) or not 1 <= change.beats <= MOST_BEATS:
        raise ArkundError(
            f"{name} has a meter of {change.beats}/{change.unit} in bar {change.bar}. Meters of 1 to "
            f"{MOST_BEATS} beats of a 2nd, 4th, 8th or 16th note can be used; change it and export "
            "the file again."
        )
    if not SLOWEST_BPM <= change.bpm <= FASTEST_BPM:
        raise ArkundError(
            f"{name} has {change.bpm:g} BPM in bar {change.bar}. {SLOWEST_BPM:g} to {FASTEST_BPM:g} "
            "BPM can be used; halve or double the tempo and export the file again."
        )
    if change.bar > LAST_BAR:
        raise ArkundError(
            f"{name} has a change in bar {change.bar}; a song has {LAST_BAR} bars at most."
        )


def _grid_of(found: list[tuple[float, str, tuple[float, ...]]], first_downbeat_s: float) -> Grid:
    """The grid of events ``(quarters, tempo or meter, its figures)`` in order."""
    bpm, beats, unit = 120.0, 4, 4
    changes: list[Change] = []
    begins = 0.0
    """Where the last change's bar begins, in quarters."""
    for quarters, kind, values in found:
        last = changes[-1] if changes else None
        if kind == "tempo":
            bpm = round(values[0], 4)
        else:
            beats, unit = int(values[0]), int(values[1])
        if last is None:
            changes.append(Change(1, bpm, beats, unit))
            continue
        per_bar = last.beats * 4 / last.unit if last.beats and last.unit else 4.0
        passed = max(0, int(np.ceil((quarters - begins) / per_bar - 1e-6)))
        change = Change(last.bar + passed, bpm, beats, unit)
        if passed:
            begins += passed * per_bar
            changes.append(change)
        else:
            changes[-1] = change
    first = changes[0]
    return Grid(first.bpm, first.beats, first.unit, first_downbeat_s, tuple(changes[1:]))
