"""Prints of stored songs: to a folder, or to a zip that can be downloaded."""

import shutil
import zipfile
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

from arkund.core.audio.broadcast import time_reference
from arkund.core.audio.wave_writing import Marker, Stamp
from arkund.core.errors import ArkundError
from arkund.core.graph.building import edited
from arkund.core.kit.roles import BESIDE
from arkund.core.render.printing import PrintReport, print_song
from arkund.core.render.stem_files import Notes
from arkund.core.render.stems import Stem, stems_of
from arkund.core.render.through_bus import steps_of
from arkund.core.render.wish import MONO_TAPS, PATTERN, Wish
from arkund.core.sheet.sheet import Sheet
from arkund.songs import memory, soundness, storage
from arkund.songs.models import Print, Revision, Song
from arkund.songs.rendering import exact_engine, graph_of, grid_of

EVERYTHING = Wish()
BYTES = {"wav24": 3.0, "wav32f": 4.0, "flac": 2.0}
"""Of a sample in each format; in FLAC about."""


def wish_of(params: Mapping[str, Any]) -> Wish:
    """What a job was asked to print. Raises `ArkundError`."""
    return Wish(
        kinds=params.get("stems", EVERYTHING.kinds),
        tap=params.get("tap") or ("bus" if params.get("through_bus") else "shaped"),
        left_out=params.get("left_out", ()),
        pattern=params.get("pattern") or PATTERN,
    )


def stems_in(song: Song, revision: Revision, wish: Wish) -> list[Stem]:
    """The stems that a wish asks of a revision. Raises `ArkundError`."""
    sheet = revision.sheet
    return stems_of(
        graph_of(sheet),
        wish,
        song=song.slug,
        revision=revision.number,
        pieces=_pieces(sheet),
        edited=edited(sheet, storage.library()) if wish.tap == "edited" else None,
    )


def _pieces(sheet: Sheet) -> dict[str, str]:
    """Of each mic and layer the drum that it belongs to, or what it is to all of them."""
    of = {name: mic.name.piece or mic.role for name, mic in sheet.mics.items()}
    return of | {name: of[layer.of] for name, layer in sheet.layers.items()}


def notes_of(song: Song, revision: Revision) -> Notes:
    """What the files of a print say of themselves: the song, its time of day where its recording said one, and
    its sections."""
    sheet = revision.sheet
    grid = grid_of(sheet)
    bars = [(1, "bar 1")] if not sheet.sections else []
    bars += [(section.start_bar, section.name) for section in sheet.sections]
    markers = [Marker(grid.frames_of_bars(bar, bar, sheet.rate)[0], name) for bar, name in bars]
    stamp = Stamp(
        f"{song.name}, revision {revision.number}: {revision.label}",
        "Arkund",
        revision.created,
        _time_of_day(sheet),
    )
    return Notes(stamp, [m for m in markers if m.at < sheet.frames])


def _time_of_day(sheet: Sheet) -> int:
    """The sample since midnight at which the song begins, where all files of its take agree on one; else 0."""
    paths = [
        storage.find_sound(source.sha256)
        for name, source in sheet.take.sources.items()
        if sheet.mics[name].role not in BESIDE
    ]
    said = {time_reference(path) for path in paths if path is not None}
    stamp = said.pop() if len(said) == 1 else None
    return max((stamp or 0) + sheet.take.offset, 0) if stamp else 0


@dataclass(frozen=True)
class Line:
    """A channel that could be printed, its file's name, and whether it will be."""

    name: str
    file: str
    is_chosen: bool


@dataclass(frozen=True)
class Forecast:
    """What a print would be: a line for each channel, the bytes that the files need, and what is odd; and
    why it cannot be, where it cannot."""

    lines: list[Line]
    needed: int = 0
    odd: tuple[str, ...] = ()
    refusal: str = ""

    @property
    def chosen(self) -> int:
        """How many files there will be."""
        return sum(line.is_chosen for line in self.lines)


def forecast(song: Song, revision: Revision, wish: Wish, file_format: str) -> Forecast:
    """What a wish would write, before it is written."""
    sheet = revision.sheet
    try:
        every = stems_in(song, revision, replace(wish, only=(), left_out=()))
    except ArkundError as error:
        return Forecast([], refusal=str(error))
    try:
        stems, refusal = stems_in(song, revision, wish), ""
    except ArkundError as error:
        stems, refusal = [], str(error)
    names = {stem.name: stem.file for stem in stems}
    ending = "flac" if file_format == "flac" else "wav"
    lines = [
        Line(one.name, f"{names.get(one.name, one.file)}.{ending}", one.name in names)
        for one in every
    ]
    channels = 1 if wish.tap in MONO_TAPS else 2
    size = round(len(stems) * sheet.frames * channels * BYTES[file_format])
    odd = list(_odd(sheet, wish, stems))
    # Files and the zip that they are packed into stand beside each other for a while.
    if 2 * size > shutil.disk_usage(storage.data_folder()).free:
        odd.insert(0, "The disk has too little space: a print needs twice its size for a while.")
    return Forecast(lines, size, tuple(odd), refusal)


def _odd(sheet: Sheet, wish: Wish, stems: list[Stem]) -> Iterator[str]:
    """What will be printed empty or is left out."""
    if wish.tap in MONO_TAPS:
        return
    printed = {stem.name for stem in stems}
    muted = [n for n in (*sheet.mics, *sheet.layers) if n in printed and _is_muted(sheet, n)]
    if muted:
        said = ", ".join(name.replace("_", " ") for name in muted)
        yield f"Muted, so printed as silence: {said}."


def _is_muted(sheet: Sheet, name: str) -> bool:
    channel = sheet.mics.get(name) or sheet.layers[name]
    return channel.mute


def print_to_folder(
    song: Song,
    revision: Revision,
    folder: Path,
    *,
    wish: Wish = EVERYTHING,
    file_format: str = "wav24",
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> PrintReport:
    """Print a revision's stems into a folder.

    Raises `SoundsLost` before anything is written where a file that sounds is missing or damaged, and
    `ArkundError` where the wish asks for what is not there."""
    sheet = revision.sheet
    soundness.refuse_lost(sheet)
    memory.hold()
    graph = graph_of(sheet)
    return print_song(
        exact_engine(sheet),
        graph,
        stems_in(song, revision, wish),
        folder,
        tap=wish.tap,
        bus=steps_of(graph, sheet) if wish.tap == "bus" else (),
        file_format=file_format,
        bus_db=sheet.drum_bus.fader_db,
        notes=notes_of(song, revision),
        progress=progress,
        cancelled=cancelled,
    )


def print_to_zip(
    song: Song,
    revision: Revision,
    *,
    wish: Wish = EVERYTHING,
    file_format: str = "wav24",
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> Print:
    """Print, pack into one zip (stored, sound does not shrink), note it in the database.

    The zip appears under its final name only when it is whole.
    """
    folder = storage.prints_folder(song.slug)
    name = _zip_name(song, revision, wish, file_format)
    work = folder / f"{name}.work"
    part = folder / f"{name}.part"
    try:
        report = print_to_folder(
            song,
            revision,
            work,
            wish=wish,
            file_format=file_format,
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


def _zip_name(song: Song, revision: Revision, wish: Wish, file_format: str) -> str:
    how = {"shaped": "", "bus": "_through_bus"}.get(wish.tap, f"_{wish.tap}")
    some = "_some" if wish.only or wish.left_out else ""
    return f"{song.slug}_revision_{revision.number}_{file_format}{how}{some}.zip"


def asked_last(song: Song) -> Mapping[str, Any]:
    """What was chosen for the song's last print; what is usual where there was none."""
    last = song.jobs.filter(kind="print").order_by("-pk").first()
    params = dict(last.params) if last else {}
    try:
        wish = wish_of(params)
    except ArkundError:  # asked by an earlier version
        wish, params = EVERYTHING, {}
    return {
        "wish": wish,
        "stems": params.get("stems", wish.kinds),
        "format": params.get("format", "wav24"),
    }
