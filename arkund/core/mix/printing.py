"""Printing: stems, returns and the mix to files, tile after tile with bounded memory.

Files are written under a temporary name beside their final one and renamed when all are
complete, so a killed print leaves no half file under a final name.
"""

import shutil
import wave
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile as sf
from numba import njit
from numpy.typing import NDArray

from arkund.core.errors import ArkundError
from arkund.core.measure.loudness import loudness_lufs
from arkund.core.mix.engine import Engine
from arkund.core.mix.graph import Graph
from arkund.core.mix.nodes import Node
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
    """``null_db``: peak of (sum of the stems − *sum*) in dBFS, as written; ``bus_db`` the drum
    bus's level, which the mix has and the stems have not; ``over`` counts samples over full
    scale, held there when integer."""

    files: list[str]
    null_db: float
    peak_dbfs: float
    loudness_lufs: float
    bus_db: float
    over: dict[str, int]


def print_song(
    engine: Engine,
    graph: Graph,
    folder: Path,
    *,
    stems: Sequence[str] = STEMS,
    file_format: str = "wav24",
    bus_db: float = 0.0,
    prefix: str = "",
    progress: Callable[[float], None] = lambda share: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> PrintReport:
    """Write stems and mix of a graph into ``folder``.

    ``mics`` are the processed mics after fader and pan, ``groups`` and ``parallel`` (the buses) behind
    their faders, ``mix`` the output; all stereo and of one length, starting at the song's first sample. Raises
    `ArkundError` on an unknown choice and `PrintCancelled` when stopped.
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
        report = _write(engine, graph, wanted, part, file_format, bus_db, progress, cancelled)
        for name in report.files:
            (part / name).replace(folder / name)
    finally:
        shutil.rmtree(part, ignore_errors=True)
    return report


def _wanted(graph: Graph, stems: Sequence[str], prefix: str) -> list[tuple[str, Node, bool]]:
    """``(file stem, node, counts toward the sum)``."""
    out: list[tuple[str, Node, bool]] = []
    if "mics" in stems:
        out += [(f"{prefix}{name}", n, name in graph.parts) for name, n in graph.outs.items()]
    if "groups" in stems:
        # Of groups that do something: the others are what their mics are.
        out += [(f"{prefix}{name}_group", node, True) for name, node in graph.groups.items()
                if name in graph.parts]  # fmt: skip
    if "parallel" in stems:
        out += [(f"{prefix}{name}_return", node, True) for name, node in graph.returns.items()]
    if "mix" in stems:
        out.append((f"{prefix}mix", graph.output, False))
    return out


def _write(
    engine: Engine, graph: Graph, wanted: list[tuple[str, Node, bool]], part: Path,
    file_format: str, bus_db: float, progress: Callable[[float], None], cancelled: Callable[[], bool],
) -> PrintReport:  # fmt: skip
    whole_sum = all(any(n is node for _, n, _ in wanted) for node in graph.parts.values())
    suffix = FORMATS[file_format][1]
    files = {
        stem: _StemWriter(part / f"{stem}.{suffix}", engine.rate, file_format, seed=number + 1)
        for number, (stem, _, _) in enumerate(wanted)
    }
    over = dict.fromkeys(files, 0)
    residue = peak = 0.0
    mix: list[NDArray[np.float32]] = []
    shaped = [graph.mics[name].shaped for name in graph.outs]
    size = engine.tile_frames
    tiles = -(-engine.frames // size)
    try:
        with ThreadPoolExecutor(2) as pool:
            for number in range(tiles):
                if cancelled():
                    raise PrintCancelled
                stop = min((number + 1) * size, engine.frames) - number * size

                def one(item: tuple[str, Node, bool], number: int = number, stop: int = stop
                        ) -> NDArray[np.float32] | NDArray[np.int32]:  # fmt: skip
                    stem, node, _ = item
                    sound = engine.tile(node, number)[:stop]
                    over[stem] += int(np.count_nonzero(np.abs(sound) > 1.0))
                    return files[stem].write(sound)

                # The mics first, in parallel; what they feed then finds their tiles ready.
                list(pool.map(engine.tile, shaped, [number] * len(shaped)))
                written = list(pool.map(one, wanted))
                target = engine.tile(graph.sum, number)[:stop]
                if whole_sum:
                    total = np.zeros((stop, 2))
                    for (_, _, counts), sound in zip(wanted, written, strict=True):
                        if counts:
                            total += sound if sound.dtype == np.float32 else sound / 8388608.0
                    residue = max(residue, float(np.abs(total - target).max(initial=0.0)))
                output = engine.tile(graph.output, number)[:stop]
                peak = max(peak, float(np.abs(output).max(initial=0.0)))
                mix.append(output)
                progress((number + 1) / tiles)
    finally:
        for file in files.values():
            file.close()
    whole = np.concatenate(mix)
    return PrintReport(
        files=[f"{stem}.{suffix}" for stem in files],
        null_db=round(amplitude_to_db(residue), 1) if whole_sum else 0.0,
        peak_dbfs=round(amplitude_to_db(peak), 2),
        loudness_lufs=round(loudness_lufs(whole, engine.rate), 2),
        bus_db=bus_db,
        over={stem: count for stem, count in over.items() if count},
    )


class _StemWriter:
    """One stereo file being written: 24-bit with triangular dither of ±1 step, or float."""

    def __init__(self, path: Path, rate: int, file_format: str, seed: int) -> None:
        subtype, container = FORMATS[file_format]
        self._state = np.array([0x9E3779B97F4A7C15 ^ (seed * 7919)], np.uint64)
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

    def write(self, sound: NDArray[np.float32]) -> NDArray[np.float32] | NDArray[np.int32]:
        """Write ``(frames, 2)``; returns what stands in the file (int32: steps of 2^-23)."""
        if not self._dithered:
            assert self._file is not None
            self._file.write(sound)
            return sound
        steps = np.empty(sound.shape, np.int32)
        packed = np.empty(sound.size * 3, np.uint8)
        _dither(np.ascontiguousarray(sound).reshape(-1), self._state, steps.reshape(-1), packed)
        if self._wave is not None:
            self._wave.writeframesraw(packed.data)
        elif self._file is not None:
            self._file.write(steps << 8)
        return steps

    def close(self) -> None:
        if self._wave is not None:
            self._wave.close()
        if self._file is not None:
            self._file.close()


@njit(cache=True, nogil=True)
def _dither(sound, seed, steps, packed):  # type: ignore[no-untyped-def]
    state = seed[0]
    for n in range(len(sound)):
        # xorshift64*: two uniform halves of one number make the triangle.
        state ^= state >> np.uint64(12)
        state ^= state << np.uint64(25)
        state ^= state >> np.uint64(27)
        word = state * np.uint64(0x2545F4914F6CDD1D)
        first = np.int32(word >> np.uint64(40)) * (1.0 / 16777216.0)
        second = np.int32((word >> np.uint64(16)) & np.uint64(0xFFFFFF)) * (1.0 / 16777216.0)
        value = np.int32(0)
        # Digital silence stays silent.
        if sound[n] != 0.0:
            step = np.floor(sound[n] * 8388608.0 + (first - second) + 0.5)
            value = np.int32(min(max(step, -8388608.0), 8388607.0))
        steps[n] = value
        packed[3 * n] = value & 0xFF
        packed[3 * n + 1] = (value >> 8) & 0xFF
        packed[3 * n + 2] = (value >> 16) & 0xFF
    seed[0] = state
