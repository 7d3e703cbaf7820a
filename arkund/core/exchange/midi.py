"""Hits and tempo map as a standard MIDI file, and back."""

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple, get_args

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


BAR_ONE = "bar 1"
"""The marker at bar 1. What comes before it is a lead-in without music."""

SLOWEST_US = 0xFFFFFF
"""Most microseconds a quarter note that a file can say."""


def write_midi(path: Path, grid: Grid, hits: Sequence[Hit] = ()) -> None:
    """Tempo, meter and hits to a type 1 file that begins where the audio does.

    Before the first bar line stand lead-in bars of a tempo of their own, so that every bar and every hit
    lies at its time in the song: dropped in beside the stems at zero, all fall together. A tempo in MIDI
    is a whole number of microseconds a quarter note; hits lie where the file's own tempos put them, within
    a tick. No hit is left out; what lies before the audio begins stands at its beginning.
    """
    file = mido.MidiFile(type=1, ticks_per_beat=TICKS)
    tempo = mido.MidiTrack()
    file.tracks.append(tempo)
    legs, first = _legs_of(grid)
    at = 0
    for leg in legs:
        if leg is not legs[0] and leg.bar == first:
            tempo.append(mido.MetaMessage("marker", text=f"bar {first}", time=leg.tick - at))
            at = leg.tick
        tempo.append(
            mido.MetaMessage(
                "time_signature", numerator=leg.beats, denominator=leg.unit, time=leg.tick - at
            )
        )
        tempo.append(mido.MetaMessage("set_tempo", tempo=leg.quarter_us))
        at = leg.tick
    if hits:
        file.tracks.append(_note_track(legs, hits))
    part = path.with_name(path.name + ".part")
    file.save(part)
    part.replace(path)


class _Leg(NamedTuple):
    """A stretch of one tempo and meter: the ``bar`` that it begins with (0 for the lead-in), its first
    tick, its beginning in s, and its length of a quarter note in microseconds."""

    bar: int
    tick: int
    begins_s: float
    beats: int
    unit: int
    quarter_us: int


def _legs_of(grid: Grid) -> tuple[list[_Leg], int]:
    """The stretches of a file that begins with the audio, and the first bar that begins in it."""
    first = 1 if grid.first_downbeat_s >= 0 else int(np.ceil(grid.bar_at(0.0) - 1e-9))
    (beats, unit), lead_s = grid.meter_at(first), grid.bar_start_s(first)
    legs: list[_Leg] = []
    tick, begins_s = 0, 0.0
    if lead_s >= LEAST_LEAD_S:
        per_bar = beats * 4 / unit
        bar_s = grid.bar_start_s(first + 1) - lead_s
        bars = max(1, round(lead_s / bar_s), int(np.ceil(lead_s * 1e6 / per_bar / SLOWEST_US)))
        quarter_us = max(1, round(lead_s * 1e6 / (bars * per_bar)))
        legs.append(_Leg(0, 0, 0.0, beats, unit, quarter_us))
        tick = round(bars * per_bar * TICKS)
        begins_s = bars * per_bar * quarter_us / 1e6
    passed = [Change(first, grid.bpm_at(first), beats, unit)]
    passed += [c for c in grid.changes if c.bar > first]
    start = grid.quarters_of_bar(first)
    lead_ticks = tick
    for change in passed:
        then = lead_ticks + round((grid.quarters_of_bar(change.bar) - start) * TICKS)
        if then > tick:
            begins_s += (then - tick) / TICKS * legs[-1].quarter_us / 1e6
            tick = then
        quarter_us = min(round(60e6 / change.bpm), SLOWEST_US)
        legs.append(_Leg(change.bar, tick, begins_s, change.beats, change.unit, quarter_us))
    return legs, first


LEAST_LEAD_S = 0.0005
"""A shorter way to the first bar line is none: a tick lasts as long."""


def _note_track(legs: Sequence[_Leg], hits: Sequence[Hit]) -> mido.MidiTrack:
    begins_s = np.array([leg.begins_s for leg in legs])
    events = []
    for hit in hits:
        leg = legs[max(int(np.searchsorted(begins_s, hit.time_s, "right")) - 1, 0)]
        quarters = (hit.time_s - leg.begins_s) * 1e6 / leg.quarter_us
        tick, note = max(leg.tick + round(quarters * TICKS), 0), note_of(hit.piece)
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
    """The tempo map of a MIDI file, its first bar as bar 1, or the one that is marked so (`BAR_ONE`).

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
    begins = 0.0
    for track in file.tracks:
        at = 0
        for message in track:
            at += message.time
            quarters = at / file.ticks_per_beat
            if message.type == "marker" and message.text == BAR_ONE:
                begins = quarters
            if message.type == "set_tempo" and message.tempo > 0:
                found.append((quarters, "tempo", (60e6 / message.tempo,)))
            elif message.type == "time_signature":
                found.append((quarters, "meter", (message.numerator, message.denominator)))
    found = [(quarters - begins, kind, v) for quarters, kind, v in found if quarters >= begins]
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
