"""Sound files from outside: hostile until every sample has been read.

`examine` decides whether a file can be used; `SoundFileReader` gives random access to one that
can. Formats: WAV (16/24/32-bit integer, 32-bit float, RF64), FLAC and AIFF, mono or stereo."""

import hashlib
import math
from dataclasses import dataclass
from pathlib import Path
from types import TracebackType

import numpy as np
import soundfile as sf
from numpy.typing import NDArray

from arkund.core.audio.containers import FLAC_UNSTATED, UNSTATED, declared_size, open_sound
from arkund.core.errors import AudioRefused, SoundLost

SUFFIXES = (".wav", ".wave", ".flac", ".aif", ".aiff")
SUBTYPES = {"PCM_16", "PCM_24", "PCM_32", "FLOAT", "DOUBLE"}
RATES = (8_000, 384_000)
BLOCK_FRAMES = 1 << 18

LOUDEST = 100.0
"""Amplitude (+40 dBFS) over which samples are no sound but something else read as sound."""


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
    note: str = ""
    """What is odd about the file without being in the way, as a sentence."""

    @property
    def seconds(self) -> float:
        return self.frames / self.rate

    @property
    def is_silent(self) -> bool:
        return self.peak == 0.0


def examine(path: Path, name: str | None = None) -> FileFacts:
    """Read the whole file and state its facts.

    Raises `AudioRefused`, whose text names the file, when it is not sound, is cut short, holds
    no samples, holds NaN, infinite or absurdly loud samples, or has a header that cannot be true.
    """
    name = name or path.name
    if Path(name).suffix.lower() not in SUFFIXES:
        raise AudioRefused(name, "is not a WAV, FLAC or AIFF file.", "Leave it out or convert it.")
    if path.stat().st_size == 0:
        raise AudioRefused(name, "is empty (0 bytes).", "Copy it again from the recorder.")
    declared, size = declared_size(path)
    if declared > size:
        raise AudioRefused(
            name,
            f"is cut short: {declared - size} bytes of its sound are missing.",
            "Copy it again from the recorder.",
        )
    note = ""
    if declared == UNSTATED:
        note = "Its header does not say how long it is; all sound that is in it was taken."
    try:
        with open_sound(path) as file:
            _refuse_header(file, name)
            _refuse_more_than_stated(file, path, name)
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
    if peak > LOUDEST:
        raise AudioRefused(
            name,
            f"has a peak of {20 * math.log10(peak):+.0f} dBFS, which no recording has.",
            "Its format was probably taken for another; export it again as 24-bit WAV.",
        )
    return FileFacts(name, frames, rate, channels, subtype, peak, digest, note)


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
    if file.format == "FLAC" and file.frames >= FLAC_UNSTATED:
        raise AudioRefused(
            name, "does not say how long it is.", "Export it again as FLAC, or as WAV."
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


def _refuse_more_than_stated(file: sf.SoundFile, path: Path, name: str) -> None:
    """A FLAC whose header states fewer samples than follow would be cut off in silence."""
    if file.format != "FLAC":
        return
    raw = file.frames * file.channels * {"PCM_S8": 1, "PCM_16": 2}.get(file.subtype, 3)
    # What cannot be compressed is stored as it is, with some bytes a block of 16 frames or more.
    if path.stat().st_size - _flac_sound_at(path) > 2 * raw + 4096:
        raise AudioRefused(
            name,
            f"states {file.frames} samples but holds more.",
            "Copy it again from the recorder, or export it again.",
        )


def _flac_sound_at(path: Path) -> int:
    """Where the sound of a FLAC file begins, behind its blocks of metadata."""
    with path.open("rb") as stream:
        stream.seek(4)
        last = False
        while not last and len(header := stream.read(4)) == 4:
            last = bool(header[0] & 0x80)
            stream.seek(int.from_bytes(header[1:], "big"), 1)
        return stream.tell()


class SoundFileReader:
    """Random access to one examined file. Not shared between threads."""

    def __init__(self, path: Path, name: str = "") -> None:
        """Open ``path``, called ``name`` in errors. Raises `SoundLost` where it cannot be read."""
        self._name = name or path.name
        try:
            declared, size = declared_size(path)
            if declared > size:
                raise SoundLost(self._name)
            self._file = open_sound(path)
        except (sf.LibsndfileError, OSError) as error:
            raise SoundLost(self._name) from error
        self.frames = int(self._file.frames)
        self._place = 0
        """The frame that the file would give next; -1 where that is not known."""
        self.rate = int(self._file.samplerate)
        self.channels = int(self._file.channels)

    def read(self, start: int, stop: int) -> NDArray[np.float32]:
        """Frames ``start`` (inclusive) to ``stop`` (exclusive), ``(stop-start, channels)``.

        What lies outside the file is silence. Raises `SoundLost` where the file does not hold
        what it says.
        """
        first, last = max(start, 0), min(stop, self.frames)
        out = np.empty((max(stop - start, 0), self.channels), np.float32)
        if first >= last:
            out[:] = 0
            return out
        out[: first - start] = 0
        out[last - start :] = 0
        try:
            if self._place != first:
                self._file.seek(first)
            self._place = -1
            got = self._file.read(dtype="float32", out=out[first - start : last - start])
        except sf.LibsndfileError as error:
            raise SoundLost(self._name) from error
        if len(got) < last - first:
            raise SoundLost(self._name)
        self._place = last
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


class MonoFile:
    """A mic's file as though it were an array ``(frames,)`` of which slices are taken, so that sound of
    hours is never in memory as a whole. Raises `SoundLost`. Not shared between threads."""

    def __init__(self, path: Path, pick: str = "mono", name: str = "") -> None:
        """``pick`` and ``name`` as in `read_mono`."""
        self._reader, self._pick = SoundFileReader(path, name), pick

    def __len__(self) -> int:
        return self._reader.frames

    def __getitem__(self, some: slice) -> NDArray[np.float32]:
        start, stop, _ = some.indices(len(self))
        return pick_channel(self._reader.read(start, stop), self._pick)


def read_mono(path: Path, pick: str = "mono", name: str = "") -> NDArray[np.float32]:
    """The whole file as ``(frames,)``; ``pick`` says what is taken of a stereo file, ``name`` what
    it is called in errors. Raises `SoundLost`."""
    with SoundFileReader(path, name) as reader:
        return pick_channel(reader.read(0, reader.frames), pick)


def pick_channel(audio: NDArray[np.float32], pick: str) -> NDArray[np.float32]:
    """One channel of ``(frames, channels)``: ``mono``, ``left``, ``right`` or ``sum`` (halved)."""
    if pick == "sum" and audio.shape[1] == 2:
        return (audio[:, 0] * np.float32(0.5) + audio[:, 1] * np.float32(0.5)).astype(np.float32)
    if pick not in ("mono", "left", "right", "sum"):
        raise ValueError(f"“{pick}” is not mono, left, right or sum.")
    return np.ascontiguousarray(audio[:, 1 if pick == "right" and audio.shape[1] == 2 else 0])
