"""The tempo map of a stored song: from a MIDI file, or drifting as it was played."""

from pathlib import Path

from arkund.core.exchange.midi import read_tempo
from arkund.core.mix.graph import played_hits
from arkund.core.mix.sheet import Sheet
from arkund.core.timing.drift import drifting as drifting_grid
from arkund.core.timing.grid import Grid
from arkund.songs import revisions, storage
from arkund.songs.models import Revision, Song
from arkund.songs.rendering import grid_of


def from_midi(song: Song, path: Path) -> Revision:
    """Keep the tempo map of a MIDI file; bar 1 stays where it is."""
    sheet = _sheet(song)
    return _keep(song, read_tempo(path, sheet.tempo.first_downbeat_s), f"Tempo map of {path.name}")


def drifting(song: Song) -> Revision:
    """Keep a tempo map that follows the strokes bar by bar."""
    sheet = _sheet(song)
    grid = grid_of(
        sheet.model_copy(update={"tempo": sheet.tempo.model_copy(update={"changes": ()})})
    )
    bars = grid.bars_in(sheet.frames / sheet.rate)
    found = drifting_grid(grid, played_hits(sheet, storage.load_hits), bars)
    slowest = min([found.bpm, *(c.bpm for c in found.changes)])
    fastest = max([found.bpm, *(c.bpm for c in found.changes)])
    return _keep(song, found, f"Tempo follows the drummer, {slowest:.1f} to {fastest:.1f} BPM")


def _keep(song: Song, grid: Grid, label: str) -> Revision:
    assert song.current is not None
    tempo = {
        "bpm": grid.bpm, "beats": grid.beats, "unit": grid.unit,
        "first_downbeat_s": grid.first_downbeat_s,
        "changes": [{"bar": c.bar, "bpm": c.bpm, "beats": c.beats, "unit": c.unit}
                    for c in grid.changes],
    }  # fmt: skip
    return revisions.keep(song.pk, song.current.number, {"tempo": tempo}, label=label,
                          station="load-in")  # fmt: skip


def _sheet(song: Song) -> Sheet:
    assert song.current is not None
    return song.current.sheet
