"""Printing: stems, returns and the mix to files, tile after tile with bounded memory.

Files are written under a temporary name beside their final one and renamed when all are
complete, so a killed print leaves no half file under a final name.
"""

import shutil
import wave
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial
from itertools import repeat
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.graph.adding import add_steps, add_stereo, beyond
from arkund.core.graph.graph import Graph
from arkund.core.graph.nodes import Node
from arkund.core.measure.loudness import Loudness
from arkund.core.process.stage import Audio
from arkund.core.render.dither import dithered, packed
from arkund.core.render.engine import Engine
from arkund.core.render.faults import refuse_broken
from arkund.core.render.through_bus import Step, ThroughBus
from arkund.core.units import amplitude_to_db

FORMATS = {"wav24": ("PCM_24", "wav"), "wav32f": ("FLOAT", "wav"), "flac": ("PCM_24", "flac")}
STEMS = ("mics", "groups", "parallel", "mix")
PART_FOLDER = ".printing"


class PrintCancelled(ArkundError):
    """Someone asked for the print to stop."""

    def __init__(self) -> None:
        super().__init__("The print was cancelled; nothing was written.")


@dataclass(frozen=True)
class PrintReport:
    """``null_db``: peak of (sum of the stems − what they are the parts of) in dBFS, as written: the *sum* before
    the drum bus, or the mix where the stems went ``through_bus``; ``bus_db`` the drum bus's level, which the mix has
    and other stems have not; ``over`` counts samples over full scale, held there when integer."""

    files: list[str]
    null_db: float
    peak_dbfs: float
    loudness_lufs: float
    bus_db: float
    over: dict[str, int]
    through_bus: bool = False


def print_song(
    engine: Engine,
    graph: Graph,
    folder: Path,
    *,
    stems: Sequence[str] = STEMS,
    file_format: str = "wav24",
    bus_db: float = 0.0,
    bus: Sequence[Step] | None = None,
    prefix: str = "",
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> PrintReport:
    """Write stems and mix of a graph into ``folder``.

    ``mics`` are the processed mics after fader and pan, ``groups`` and ``parallel`` (the buses) behind
    their faders, ``mix`` the output; all stereo and of one length, starting at the song's first sample. With the steps
    of the drum ``bus`` (`through_bus.steps_of`) every stem goes through it as the mix drives it. Raises
    `ArkundError` on an unknown choice, `BrokenSound` where a channel's sound is not a number, and
    `PrintCancelled` when stopped.
    """
    if file_format not in FORMATS:
        raise ArkundError(f"“{file_format}” is not a format. Formats are: {', '.join(FORMATS)}.")
    unknown = [s for s in stems if s not in STEMS]
    if unknown or not stems:
        raise ArkundError(f"Stems are {', '.join(STEMS)}; given was “{', '.join(stems)}”.")
    wanted = _wanted(graph, stems, prefix)
    part = folder / PART_FOLDER
    shutil.rmtree(part, ignore_errors=True)
    part.mkdir(parents=True)
    try:
        press = _Press(engine, graph, wanted, part, file_format, bus)
        try:
            press.run(progress, cancelled)
        finally:
            press.close()
        report = press.report(bus_db)
        for name in report.files:
            (part / name).replace(folder / name)
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return report


_Stem = tuple[str, Node, bool]
"""A file's name without its ending, what it holds, and whether it counts toward the sum."""


def files_of(graph: Graph, prefix: str = "") -> dict[str, list[str]]:
    """By kind of stem the names of the files, without their endings, that a print writes."""
    return {kind: [name for name, _, _ in _wanted(graph, [kind], prefix)] for kind in STEMS}


def _wanted(graph: Graph, stems: Sequence[str], prefix: str) -> list[_Stem]:
    """``(file stem, node, counts toward the sum)``."""
    out: list[_Stem] = []
    if "mics" in stems:
        out += [(f"{prefix}{name}", n, name in graph.parts) for name, n in graph.outs.items()]
        out += [
            (f"{prefix}{_layer_stem(name)}", n, name in graph.parts)
            for name, n in graph.layers.items()
        ]
    if "groups" in stems:
        # Of groups that do something: the others are what their mics are.
        out += [
            (f"{prefix}{name}_group", node, True)
            for name, node in graph.groups.items()
            if name in graph.parts
        ]
    if "parallel" in stems:
        out += [(f"{prefix}{name}_return", node, True) for name, node in graph.returns.items()]
    if "mix" in stems:
        out.append((f"{prefix}mix", graph.output, False))
    names = [stem for stem, _, _ in out]
    if twice := sorted({name for name in names if names.count(name) > 1}):
        raise ArkundError(
            f"Two channels would be printed as {twice[0]}; rename one of them, then print again."
        )
    return out


def _layer_stem(name: str) -> str:
    """A layer's file says that it is one: it may be called ``mix``, or like a group's file."""
    return name if name.endswith(("_layer", "_sub")) else f"{name}_layer"


Written = NDArray[np.float32] | NDArray[np.int32]
"""What stands in a file: float, or steps of 2^-23."""


class _Press:
    """A print under way: its files, what is known of it, and one reading of the song."""

    def __init__(
        self,
        engine: Engine,
        graph: Graph,
        wanted: list[_Stem],
        part: Path,
        file_format: str,
        bus: Sequence[Step] | None,
    ) -> None:
        self._engine, self._graph, self._wanted = engine, graph, wanted
        self.stream = engine.stream()
        self.suffix = FORMATS[file_format][1]
        self.files = {
            name: _StemWriter(part / f"{name}.{self.suffix}", engine.rate, file_format, seed=number)
            for number, (name, _, _) in enumerate(wanted, start=1)
        }
        self.tally = _Tally(graph, wanted, engine.rate)
        self.stems = [item for item in wanted if item[1] is not graph.output]
        # What is not written is a part of the mix all the same.
        printed = [node for _, node, _ in self.stems]
        self.rest = [n for n in graph.parts.values() if not any(n is one for one in printed)]
        self.through = None
        if bus is not None:
            counts = [counts for _, _, counts in self.stems] + [True] * len(self.rest)
            self.through = ThroughBus(bus, counts, engine.rate)

    def run(self, progress: Callable[[float], None], cancelled: Callable[[], bool]) -> None:
        """Write all tiles. Raises `PrintCancelled` when stopped."""
        size = self.stream.tile_frames
        tiles = -(-self._engine.frames // size)
        mics, *later = self._graph.levels()
        tile = self.stream.tile
        looked_at: Future[None] | None = None
        with ThreadPoolExecutor(2) as pool, ThreadPoolExecutor(1) as behind:
            # What is fed comes first, side by side; what it feeds then finds its tiles ready. The
            # next tile's mics are begun while this one's stems are written.
            ready = pool.map(tile, mics, repeat(0))
            for number in range(tiles):
                if cancelled():
                    raise PrintCancelled
                stop = min((number + 1) * size, self._engine.frames) - number * size
                list(ready)
                for level in later:
                    list(pool.map(tile, level, repeat(number)))
                both = pool.submit(self._whole, number, stop)
                writing = pool.map(self._stem, self.stems, self._sounds(number, stop))
                if number + 1 < tiles:
                    ready = pool.map(tile, mics, repeat(number + 1))
                written = list(writing)
                total, output = both.result()
                refuse_broken(self._graph, self._engine.cache, self._engine.rate)
                if looked_at is not None:
                    looked_at.result()
                whole = total if self.through is None else output
                looked_at = behind.submit(self.tally.add, written, whole, output)
                progress((number + 1) / tiles)
            if looked_at is not None:
                looked_at.result()

    def _sounds(self, number: int, stop: int) -> Iterable[Callable[[], Audio]]:
        """What each stem is in a tile, made when it is asked for; through the drum bus all at once."""

        def one(node: Node) -> Audio:
            return self.stream.tile(node, number)[:stop]

        if self.through is None:
            return [partial(one, node) for _, node, _ in self.stems]
        mix = {node.key: one(node) for node in self.through.nodes}
        nodes = [node for _, node, _ in self.stems] + self.rest
        made = self.through.run([one(node) for node in nodes], mix)
        return [partial(_same, sound) for sound in made[: len(self.stems)]]

    def _stem(self, item: _Stem, sound: Callable[[], Audio]) -> Written:
        return self.files[item[0]].write(sound())

    def _whole(self, number: int, stop: int) -> tuple[Audio, Audio]:
        """The sum and the output, which rests on it; the output is written where it is asked for."""
        with self.stream.one_read():
            total = self.stream.tile(self._graph.sum, number)[:stop]
            output = self.stream.tile(self._graph.output, number)[:stop]
        for name in (name for name, node, _ in self._wanted if node is self._graph.output):
            self.files[name].write(output)
        return total, output

    def close(self) -> None:
        """Finish all files."""
        for file in self.files.values():
            file.close()

    def report(self, bus_db: float) -> PrintReport:
        """What is known of the print, when all is written."""
        return PrintReport(
            files=[f"{name}.{self.suffix}" for name in self.files],
            null_db=self.tally.null_db,
            peak_dbfs=round(amplitude_to_db(self.tally.peak), 2),
            loudness_lufs=round(self.tally.loudness.lufs(), 2),
            bus_db=bus_db,
            over={name: file.over for name, file in self.files.items() if file.over},
            through_bus=self.through is not None,
        )


def _same(sound: Audio) -> Audio:
    return sound


class _Tally:
    """What is known of a print as it is written: whether the stems make the sum, and how loud the
    output is."""

    def __init__(self, graph: Graph, wanted: list[_Stem], rate: int) -> None:
        self._counts = [counts for _, node, counts in wanted if node is not graph.output]
        nodes = [node for _, node, _ in wanted]
        self._is_whole = all(any(n is node for n in nodes) for node in graph.parts.values())
        self._residue = self.peak = 0.0
        self.loudness = Loudness(rate, 2)

    def add(self, written: list[Written], total: Audio, output: Audio) -> None:
        """The next tile: the audio for the stem files, what they are the parts of, and the output."""
        if self._is_whole:
            residue = -total.astype(np.float64)
            for counts, sound in zip(self._counts, written, strict=True):
                if not counts:
                    continue
                if sound.dtype == np.float32:
                    add_stereo(residue, sound, 1.0, 1.0)
                else:
                    add_steps(residue, sound)
            self._residue = max(self._residue, beyond(residue, 1.0)[1])
        self.peak = max(self.peak, float(beyond(output, 1.0)[1]))
        self.loudness.feed(output)

    @property
    def null_db(self) -> float:
        """Peak of (sum of the stems − *sum*) in dBFS; 0 where not all stems are written."""
        return round(amplitude_to_db(self._residue), 1) if self._is_whole else 0.0


class _StemWriter:
    """One stereo file being written: 24-bit with triangular dither of ±1 step, or float. ``over`` counts
    its samples over full scale."""

    def __init__(self, path: Path, rate: int, file_format: str, seed: int) -> None:
        subtype, container = FORMATS[file_format]
        self.over = self._written = 0
        self._seed = np.uint32(seed * 0x9E3779B9 & 0xFFFFFFFF)
        self._dithered = subtype == "PCM_24"
        self._wave: wave.Wave_write | None = None
        self._file: sf.SoundFile | None = None
        if file_format == "wav24":
            # The standard library takes packed samples as they are, several times faster.
            self._wave = wave.open(str(path), "wb")  # noqa: SIM115
            self._wave.setparams((2, 3, rate, 0, "NONE", ""))
        else:
            self._file = sf.SoundFile(
                str(path), "w", rate, 2, subtype=subtype, format=container.upper()
            )

    def write(self, sound: NDArray[np.float32]) -> Written:
        """Write ``(frames, 2)``; returns what stands in the file (int32: steps of 2^-23)."""
        if not self._dithered:
            assert self._file is not None
            self.over += beyond(sound, 1.0)[0]
            self._file.write(sound)
            return sound
        steps = np.empty(sound.shape, np.int32)
        samples = np.ascontiguousarray(sound).reshape(-1)
        self.over += dithered(samples, self._written, self._seed, steps.reshape(-1))
        self._written += len(samples)
        if self._wave is not None:
            self._wave.writeframesraw(packed(steps.reshape(-1)).data)
        elif self._file is not None:
            self._file.write(steps << 8)
        return steps

    def close(self) -> None:
        if self._wave is not None:
            self._wave.close()
        if self._file is not None:
            self._file.close()
