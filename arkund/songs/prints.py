"""Prints of stored songs: to a folder, or to a zip that can be downloaded."""

import shutil
import zipfile
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path

from arkund.core.render.printing import STEMS, PrintReport, print_song
from arkund.core.render.through_bus import steps_of
from arkund.songs import memory, soundness, storage
from arkund.songs.models import Print, Revision, Song
from arkund.songs.rendering import exact_engine, graph_of


def print_to_folder(
    song: Song,
    revision: Revision,
    folder: Path,
    *,
    stems: Sequence[str] = STEMS,
    file_format: str = "wav24",
    through_bus: bool = False,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> PrintReport:
    """Print a revision's stems into a folder, on demand ``through_bus`` as the mix drives the drum bus.

    Raises `SoundsLost` before anything is written where
    a file that sounds is missing or damaged."""
    sheet = revision.sheet
    soundness.refuse_lost(sheet)
    memory.hold()
    graph = graph_of(sheet)
    return print_song(
        exact_engine(sheet),
        graph,
        folder,
        bus=steps_of(graph, sheet) if through_bus else None,
        stems=stems,
        file_format=file_format,
        bus_db=sheet.drum_bus.fader_db,
        prefix=f"{song.slug}_",
        progress=progress,
        cancelled=cancelled,
    )


def print_to_zip(
    song: Song,
    revision: Revision,
    *,
    stems: Sequence[str] = STEMS,
    file_format: str = "wav24",
    through_bus: bool = False,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Print:
    """Print, pack into one zip (stored, sound does not shrink), note it in the database.

    The zip appears under its final name only when it is whole.
    """
    folder = storage.prints_folder(song.slug)
    how = "_through_bus" if through_bus else ""
    name = f"{song.slug}_revision_{revision.number}_{file_format}{how}.zip"
    work = folder / f"{name}.work"
    part = folder / f"{name}.part"
    try:
        report = print_to_folder(
            song,
            revision,
            work,
            stems=stems,
            file_format=file_format,
            through_bus=through_bus,
            progress=lambda share: progress(0.92 * share),
            cancelled=cancelled,
        )
        with zipfile.ZipFile(part, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:
            for number, file in enumerate(report.files):
                archive.write(work / file, file)
                (work / file).unlink()
                progress(0.92 + 0.08 * (number + 1) / len(report.files))
        part.replace(folder / name)
    finally:
        shutil.rmtree(work, ignore_errors=True)
        part.unlink(missing_ok=True)
    Print.objects.filter(song=song, file_name=name).delete()
    return Print.objects.create(
        song=song,
        revision=revision,
        file_name=name,
        size=(folder / name).stat().st_size,
        report=asdict(report),
    )
