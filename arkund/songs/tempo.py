"""The tempo map of a stored song: from a MIDI file, or drifting as it was played."""

from dataclasses import replace
from pathlib import Path

from arkund.core.audio.files import read_mono
from arkund.core.errors import ArkundError
from arkund.core.exchange.midi import read_tempo
from arkund.core.graph.hits import played_hits
from arkund.core.kit.roles import label
from arkund.core.sheet.lanes import mic_order
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import tempo_of
from arkund.core.timing.click import click_of
from arkund.core.timing.drift import drifting as drifting_grid
from arkund.core.timing.grid import FASTEST_BPM, SLOWEST_BPM, Grid
from arkund.core.timing.readings import NEAR, readings
from arkund.songs import lately, revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import grid_of


def from_midi(song: Song, path: Path) -> Revision:
    """Keep the tempo map of a MIDI file; bar 1 stays where it is."""
    sheet = _sheet(song)
    return _keep(song, read_tempo(path, sheet.tempo.first_downbeat_s), f"Tempo map of {path.name}")


def other_tempos(sheet: Sheet) -> list[float]:
    """Other tempos in BPM that the hits of a song with a constant tempo fit as well, the best first."""
    tempo = sheet.tempo
    if tempo.changes:
        return []

    def found() -> list[float]:
        hits = played_hits(sheet, storage.load_hits)
        read = readings(hits, tempo.bpm, tempo.beats)
        return [reading.bpm for reading in read if reading.weight >= NEAR]

    return lately.made("other tempos", sheet, found)


def constant(song: Song, bpm: float) -> Revision:
    """Keep one tempo throughout; bar 1 stays where it is. Raises `ArkundError` for a tempo that no map
    holds."""
    if not SLOWEST_BPM <= bpm <= FASTEST_BPM:
        raise ArkundError(f"A tempo lies between {SLOWEST_BPM:g} and {FASTEST_BPM:g} BPM.")
    tempo = _sheet(song).tempo
    grid = Grid(bpm, tempo.beats, tempo.unit, tempo.first_downbeat_s)
    return _keep(song, grid, f"Tempo {bpm:g} BPM throughout")


def drifting(song: Song) -> Revision:
    """Keep a tempo map that follows the hits bar by bar."""
    sheet = _sheet(song)
    grid = grid_of(
        sheet.model_copy(update={"tempo": sheet.tempo.model_copy(update={"changes": ()})})
    )
    bars = grid.bars_in(sheet.frames / sheet.rate)
    found = drifting_grid(grid, played_hits(sheet, storage.load_hits), bars)
    slowest = min([found.bpm, *(c.bpm for c in found.changes)])
    fastest = max([found.bpm, *(c.bpm for c in found.changes)])
    return _keep(song, found, f"Tempo follows the drummer, {slowest:.1f} to {fastest:.1f} BPM")


def from_click(song: Song) -> Revision:
    """Keep the tempo map of the click that was recorded. Raises `ArkundError` where no click can
    be made out or the drummer did not play to it."""
    sheet = _sheet(song)
    take = sheet.take
    name = next((m for m in mic_order(sheet) if sheet.mics[m].role == "click"), None)
    source = take.sources.get(name or "")
    if source is None:
        raise ArkundError(
            "The take that sounds has no click. Give a mic that role, or type a tempo."
        )
    audio = read_mono(storage.sound_path(source.sha256), source.pick)
    hits = storage.load_hits(take.hits) if take.hits else ()
    found = click_of(audio, sheet.rate, hits, sheet.tempo.beats, sheet.tempo.unit)
    if found is None:
        raise ArkundError(f"No regular tick can be made out in {label(name or '')}.")
    if not found.played_to:
        raise ArkundError(
            f"The click of {found.grid.bpm:.2f} BPM was not played to: only {found.share:.0%} of "
            "the hits fall on its sixteenths. Follow the drummer instead."
        )
    shift = take.offset / sheet.rate
    grid = replace(found.grid, first_downbeat_s=round(found.grid.first_downbeat_s - shift, 5))
    return _keep(
        song,
        grid,
        f"Tempo of the click: {found.ticks} ticks, {found.share:.0%} of the hits on it",
    )


def count_in(song: Song, beats: int) -> Revision:
    """Keep that the first hit begins a count of so many beats before bar 1."""
    sheet = _sheet(song)
    if not 1 <= beats <= 32:
        raise ArkundError("A count-in has 1 to 32 beats.")
    hits = played_hits(sheet, storage.load_hits)
    if not hits:
        raise ArkundError("No hit was found that could count in.")
    grid = grid_of(sheet)
    start = min(h.time_s for h in hits) + beats * grid.beat_s
    patch = {"tempo.first_downbeat_s": round(start, 5)}
    return revisions.keep(
        song.pk,
        _number(song),
        patch,
        station="load-in",
        label=f"{beats} beats of count-in; bar 1 begins at {start:.3f} s",
    )


def _number(song: Song) -> int:
    assert song.current is not None
    return song.current.number


def _keep(song: Song, grid: Grid, label: str) -> Revision:
    assert song.current is not None
    tempo = tempo_of(grid).model_dump(mode="json")
    return revisions.keep(
        song.pk, song.current.number, {"tempo": tempo}, label=label, station="load-in"
    )


def _sheet(song: Song) -> Sheet:
    assert song.current is not None
    return song.current.sheet
