"""The files of a print being written: 24 bits with dither, or float."""

from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.audio.wave_writing import Encoding, Marker, Stamp, WaveWriter
from arkund.core.graph.nodes import File
from arkund.core.render.dither import dithered, packed
from arkund.core.render.stems import Stem
from arkund.core.units import amplitude_to_db

WAVES: dict[str, Encoding] = {"wav24": "pcm24", "wav32f": "float32"}
FORMATS = (*WAVES, "flac")
FULL_SCALE = 1 << 23
"""Steps of a 24-bit sample up to full scale."""

Written = NDArray[np.float32] | NDArray[np.int32]
"""What stands in a file: float, or steps of 2^-23."""


@dataclass(frozen=True)
class Notes:
    """What WAV files say beside their sound."""

    stamp: Stamp | None = None
    markers: Sequence[Marker] = ()


@dataclass(frozen=True)
class StemReport:
    """A file as written: its highest sample in dBFS, how many samples were ``over`` full scale (24 bits hold them
    there), and whether it is the recording, sample for sample."""

    file: str
    kind: str
    peak_dbfs: float
    over: int
    is_recording: bool


class StemFile:
    """One file being written, mono or stereo: float, or 24-bit with triangular dither of ±1 step."""

    def __init__(
        self, path: Path, rate: int, channels: int, format_: str, seed: int, notes: Notes
    ) -> None:
        self.name = path.name
        self.over = self._written = 0
        self.peak = 0.0
        self.is_exact = True
        self._seed = np.uint32(seed * 0x9E3779B9 & 0xFFFFFFFF)
        self._is_float, self._may_fit = format_ == "wav32f", channels == 1
        self._wave: WaveWriter | None = None
        self._flac: sf.SoundFile | None = None
        if format_ in WAVES:
            self._wave = WaveWriter(
                path, rate, channels, WAVES[format_], notes.stamp, notes.markers
            )
        else:
            self._flac = sf.SoundFile(
                str(path), "w", rate, channels, subtype="PCM_24", format="FLAC"
            )

    def write(self, sound: NDArray[np.float32]) -> Written:
        """Write ``(frames,)`` or ``(frames, 2)``; returns what stands in the file."""
        highest = max(float(sound.max(initial=0.0)), -float(sound.min(initial=0.0)))
        self.peak = max(self.peak, highest)
        if highest > 1.0:
            self.over += int(np.count_nonzero(np.abs(sound) > 1.0))
        if self._is_float:
            assert self._wave is not None
            self._wave.write(np.ascontiguousarray(sound).reshape(-1).view(np.uint8).data)
            return sound
        steps = self._steps(sound)
        if self._wave is not None:
            self._wave.write(packed(steps.reshape(-1)).data)
        elif self._flac is not None:
            self._flac.write(steps << 8)
        return steps

    def _steps(self, sound: NDArray[np.float32]) -> NDArray[np.int32]:
        """Whole steps; a mic's sound that has no more than 24 bits stays as it is."""
        if self._may_fit and (fitting := _fitting(sound)) is not None:
            self._written += sound.size
            return fitting
        self.is_exact = False
        steps = np.empty(sound.shape, np.int32)
        samples = np.ascontiguousarray(sound).reshape(-1)
        dithered(samples, self._written, self._seed, steps.reshape(-1))
        self._written += len(samples)
        return steps

    def close(self) -> None:
        for file in (self._wave, self._flac):
            if file is not None:
                file.close()

    def report(self, stem: Stem) -> StemReport:
        """What was written, of the stem that it was."""
        peak = round(amplitude_to_db(self.peak), 2)
        is_recording = isinstance(stem.node, File) and self.is_exact
        return StemReport(self.name, stem.kind, peak, self.over, is_recording)


def _fitting(sound: NDArray[np.float32]) -> NDArray[np.int32] | None:
    """Sound as whole steps where it is nothing else."""
    scaled = sound * np.float32(FULL_SCALE)
    whole = np.rint(scaled)
    if not np.array_equal(whole, scaled) or scaled.max(initial=0.0) >= FULL_SCALE:
        return None
    return whole.astype(np.int32)


class StemFiles(ExitStack):
    """The files of a print, open until it is left; by the names of their stems."""

    def __init__(
        self,
        stems: Sequence[Stem],
        folder: Path,
        rate: int,
        channels: int,
        format_: str,
        notes: Notes,
    ) -> None:
        super().__init__()
        ending = "flac" if format_ == "flac" else "wav"
        self.stems = stems
        self._files = {}
        for number, stem in enumerate(stems, start=1):
            file = StemFile(
                folder / f"{stem.file}.{ending}", rate, channels, format_, number, notes
            )
            self.callback(file.close)
            self._files[stem.file] = file

    def write(self, stem: Stem, sound: NDArray[np.float32]) -> Written:
        """The next block of a stem."""
        return self._files[stem.file].write(sound)

    def report(self) -> list[StemReport]:
        """What was written of each."""
        return [self._files[stem.file].report(stem) for stem in self.stems]
