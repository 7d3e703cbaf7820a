"""Sound files from outside: hostile until every sample has been read.

`examine` decides whether a file can be used; `SoundFileReader` gives random access to one that
can. Formats: WAV (16/24/32-bit integer, 32-bit float, RF64), FLAC and AIFF, mono or stereo.
"""

import hashlib
import math
import struct
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType
from typing import BinaryIO

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.errors import AudioRefused

SUFFIXES = (".wav", ".wave", ".flac", ".aif", ".aiff")
SUBTYPES = {"PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"}
RATES = (8_000, 384_000)
BLOCK_FRAMES = 1 << 18


@dataclass(frozen=True)
class FileFacts:
    """What a readable file is: frames a channel, rate in Hz, sample peak as amplitude."""

    name: str
    frames: int
    rate: int
    channels: int
    subtype: str
    peak: float
    sha256: str

    @property
    def seconds(self) -> float:
        return self.frames / self.rate

    @property
    def is_silent(self) -> bool:
        return self.peak == 0.0


def examine(path: Path, name: str | None = None) -> FileFacts:
    """Read the whole file and state its facts.

    Raises `AudioRefused`, whose text names the file, when it is not sound, is cut short, holds
    no samples, holds NaN or infinite samples, or has a header that cannot be true.
    """
    name = name or path.name
    if Path(name).suffix.lower() not in SUFFIXES:
        raise AudioRefused(name, "is not a WAV, FLAC or AIFF file.", "Leave it out or convert it.")
    if path.stat().st_size == 0:
        raise AudioRefused(name, "is empty (0 bytes).", "Copy it again from the recorder.")
    _refuse_truncated(path, name)
    try:
        with sf.SoundFile(str(path)) as file:
            _refuse_header(file, name)
            frames, peak = _read_every_sample(file, name)
            rate, channels, subtype = file.samplerate, file.channels, file.subtype
    except sf.LibsndfileError as error:
        raise AudioRefused(
            name,
            "is not sound that can be read.",
            "Check that it plays elsewhere, or export it again as WAV.",
        ) from error
    with path.open("rb") as stream:
        digest = hashlib.file_digest(stream, "sha256").hexdigest()
    return FileFacts(name, frames, rate, channels, subtype, peak, digest)


def _refuse_header(file: sf.SoundFile, name: str) -> None:
    if file.subtype not in SUBTYPES:
        raise AudioRefused(
            name,
            f"has the sample format {file.subtype}, which is not used for recording.",
            "Export it as 16-, 24- or 32-bit PCM, or 32-bit float.",
        )
    if file.channels > 2:
        raise AudioRefused(
            name, f"has {file.channels} channels.", "Split it into one mono file a mic."
        )
    if not RATES[0] <= file.samplerate <= RATES[1]:
        raise AudioRefused(
            name,
            f"states a sample rate of {file.samplerate} Hz, which cannot be right.",
            "Export it again from the recorder.",
        )
    if file.frames == 0:
        raise AudioRefused(
            name, "has a header but no sound in it.", "Copy it again from the recorder."
        )


def _read_every_sample(file: sf.SoundFile, name: str) -> tuple[int, float]:
    frames, peak = 0, 0.0
    for block in file.blocks(BLOCK_FRAMES, dtype="float32", always_2d=True):
        block_peak = float(np.max(np.abs(block), initial=0.0))
        # A NaN or infinity anywhere makes the block's largest magnitude not finite.
        if not math.isfinite(block_peak):
            frame = int(np.argmin(np.isfinite(block).all(axis=1)))
            at = (frames + frame) / file.samplerate
            raise AudioRefused(
                name,
                f"holds samples that are not numbers, the first at {at:.3f} s.",
                "Export it again as 24-bit WAV.",
            )
        frames += len(block)
        peak = max(peak, block_peak)
    if frames < file.frames:
        raise _cut_short(name, frames / file.samplerate, file.frames / file.samplerate)
    return frames, peak


def _cut_short(name: str, has_s: float, says_s: float) -> AudioRefused:
    return AudioRefused(
        name,
        f"is cut short: it says {says_s:.1f} s but holds {has_s:.1f} s.",
        "Copy it again from the recorder.",
    )


def _refuse_truncated(path: Path, name: str) -> None:
    """libsndfile shortens a truncated RIFF or AIFF file in silence; compare sizes ourselves."""
    size = path.stat().st_size
    with path.open("rb") as stream:
        head = stream.read(12)
        if len(head) == 12 and head[:4] in (b"RIFF", b"RF64") and head[8:] == b"WAVE":
            declared = _declared_end(stream, size, b"data", "<", head[:4] == b"RF64")
        elif len(head) == 12 and head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC"):
            declared = _declared_end(stream, size, b"SSND", ">", False)
        else:
            return
    if declared > size:
        raise AudioRefused(
            name,
            f"is cut short: {declared - size} bytes of its sound are missing.",
            "Copy it again from the recorder.",
        )


def _declared_end(stream: BinaryIO, size: int, wanted: bytes, order: str, rf64: bool) -> int:
    """Where the chunk with the samples says that it ends; 0 where no such chunk is found."""
    data_size_64 = 0
    while True:
        header = stream.read(8)
        if len(header) < 8:
            return 0
        tag, length = header[:4], struct.unpack(order + "I", header[4:])[0]
        at = stream.tell()
        if rf64 and tag == b"ds64":
            data_size_64 = struct.unpack("<QQ", stream.read(16))[1]
        if tag == wanted:
            # Recorders that stream write 0 or all ones and never come back to fill it in.
            if length in (0, 0xFFFFFFFF):
                length = data_size_64
            return at + length
        if at + length > size:
            return 0
        stream.seek(at + length + (length & 1))


class SoundFileReader:
    """Random access to one examined file. Not shared between threads."""

    def __init__(self, path: Path) -> None:
        self._file = sf.SoundFile(str(path))
        self.frames = int(self._file.frames)
        self.rate = int(self._file.samplerate)
        self.channels = int(self._file.channels)

    def read(self, start: int, stop: int) -> NDArray[np.float32]:
        """Frames ``start`` (inclusive) to ``stop`` (exclusive), ``(stop-start, channels)``.

        What lies outside the file is silence.
        """
        out = np.zeros((max(stop - start, 0), self.channels), np.float32)
        first, last = max(start, 0), min(stop, self.frames)
        if first < last:
            self._file.seek(first)
            got = self._file.read(last - first, dtype="float32", always_2d=True)
            out[first - start : first - start + len(got)] = got
        return out

    def close(self) -> None:
        self._file.close()

    def __enter__(self) -> "SoundFileReader":
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()


def read_mono(path: Path, pick: str = "mono") -> NDArray[np.float32]:
    """The whole file as ``(frames,)``; ``pick`` says what is taken of a stereo file."""
    with SoundFileReader(path) as reader:
        return pick_channel(reader.read(0, reader.frames), pick)


def pick_channel(audio: NDArray[np.float32], pick: str) -> NDArray[np.float32]:
    """One channel of ``(frames, channels)``: ``mono``, ``left``, ``right`` or ``sum`` (halved)."""
    if pick == "sum" and audio.shape[1] == 2:
        return (audio[:, 0] * np.float32(0.5) + audio[:, 1] * np.float32(0.5)).astype(np.float32)
    if pick not in ("mono", "left", "right", "sum"):
        raise ValueError(f"“{pick}” is not mono, left, right or sum.")
    return np.ascontiguousarray(audio[:, 1 if pick == "right" and audio.shape[1] == 2 else 0])
