"""Printing: stems, returns and the mix to files.

Files are written under a temporary name beside their final one and renamed when all are
complete, so a killed print leaves no half file under a final name.
"""

import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import soundfile as sf

from arkund.core.audio.wave_writing import LARGEST
from arkund.core.errors import ArkundError
from arkund.core.graph.graph import Graph
from arkund.core.render.engine import Engine
from arkund.core.render.press import Press, press_mics
from arkund.core.render.stem_files import FORMATS, Notes, StemFiles, StemReport
from arkund.core.render.stems import Stem
from arkund.core.render.through_bus import Step
from arkund.core.render.wish import MONO_TAPS

PART_FOLDER = ".printing"
WIDEST_FRAME = 8
"""Bytes of a stereo sample in float."""


@dataclass(frozen=True)
class PrintReport:
    """``null_db``: peak of (sum of the stems − what they are the parts of) in dBFS, as written: the *sum* before
    the drum bus, or the mix at the ``tap`` *bus*; ``bus_db`` the drum bus's level, which the mix has and other
    stems have not. Peak and loudness are the mix's, at mono taps the peak is the stems' highest. None where
    there is nothing to compare or to measure."""

    stems: list[StemReport]
    null_db: float | None
    peak_dbfs: float
    loudness_lufs: float | None
    bus_db: float
    tap: str

    @property
    def files(self) -> list[str]:
        """The files' names."""
        return [stem.file for stem in self.stems]

    @property
    def over(self) -> dict[str, int]:
        """Samples over full scale, of the files that have any."""
        return {stem.file: stem.over for stem in self.stems if stem.over}


def print_song(
    engine: Engine,
    graph: Graph,
    stems: Sequence[Stem],
    folder: Path,
    *,
    tap: str = "shaped",
    file_format: str = "wav24",
    bus_db: float = 0.0,
    bus: Sequence[Step] = (),
    notes: Notes | None = None,
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> PrintReport:
    """Write the stems of a graph (`stems_of`) into ``folder``: all of one length, from the song's first sample.

    At the tap *bus* each goes through the drum ``bus`` (`through_bus.steps_of`) as the mix drives it. Raises
    `ArkundError` on an unknown format and where files would be too long, `BrokenSound` where a channel's sound
    is not a number, and `PrintCancelled` when stopped.
    """
    if file_format not in FORMATS:
        raise ArkundError(f"“{file_format}” is not a format. Formats are: {', '.join(FORMATS)}.")
    if file_format != "flac" and engine.frames * WIDEST_FRAME > LARGEST:
        raise ArkundError("The song is too long for WAV files, which hold 4 GB each; print FLAC.")
    is_mono = tap in MONO_TAPS
    part = folder / PART_FOLDER
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    try:
        channels = 1 if is_mono else 2
        with StemFiles(stems, part, engine.rate, channels, file_format, notes or Notes()) as files:
            if is_mono:
                press_mics(engine, graph, files, progress, cancelled)
            else:
                press = Press(engine, graph, files, bus if tap == "bus" else None)
                press.run(progress, cancelled)
        written = files.report()
        _refuse_short(part, written, engine.frames)
        for stem in written:
            (part / stem.file).replace(folder / stem.file)
    finally:
        shutil.rmtree(part, ignore_errors=True)
    if is_mono:
        highest = max(stem.peak_dbfs for stem in written)
        return PrintReport(written, None, highest, None, 0.0, tap)
    tally = press.tally
    return PrintReport(written, tally.null_db, tally.peak_dbfs, tally.loudness_lufs, bus_db, tap)


def _refuse_short(folder: Path, written: Sequence[StemReport], frames: int) -> None:
    """A disk that did not keep what was written is found out before a file has its final name."""
    for stem in written:
        found = sf.info(str(folder / stem.file)).frames
        if found != frames:
            raise ArkundError(
                f"{stem.file} has {found} samples on the disk instead of {frames}; print again."
            )
