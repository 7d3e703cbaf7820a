"""What a sound file's container says of its length, and opening one that says it wrongly or not at all."""

import io
import struct
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO

import soundfile as sf

FLAC_UNSTATED = 1 << 62
"""What libsndfile answers for a FLAC stream whose header leaves its length open."""

UNSTATED = -1
"""A size that the header leaves open."""


@dataclass(frozen=True)
class _Samples:
    """Where a file's samples begin and where it says that they end (0: nowhere; `UNSTATED`)."""

    start: int
    end: int


def declared_size(path: Path) -> tuple[int, int]:
    """Where the file says that its samples end, and its size. libsndfile shortens a truncated RIFF
    or AIFF file in silence."""
    return _samples_of(path).end, path.stat().st_size


def _samples_of(path: Path) -> _Samples:
    size = path.stat().st_size
    with path.open("rb") as stream:
        head = stream.read(12)
        if len(head) == 12 and head[:4] in (b"RIFF", b"RF64") and head[8:] == b"WAVE":
            return _declared(stream, size, b"data", "<", head[:4] == b"RF64")
        if len(head) == 12 and head[:4] == b"FORM" and head[8:] in (b"AIFF", b"AIFC"):
            return _declared(stream, size, b"SSND", ">", False)
    return _Samples(0, 0)


def _declared(stream: BinaryIO, size: int, wanted: bytes, order: str, rf64: bool) -> _Samples:
    data_size_64 = 0
    while len(header := stream.read(8)) == 8:
        tag, length = header[:4], struct.unpack(order + "I", header[4:])[0]
        at = stream.tell()
        if rf64 and tag == b"ds64":
            sizes = stream.read(16)
            # A file that ends within its header has no sound; libsndfile says so.
            data_size_64 = struct.unpack("<QQ", sizes)[1] if len(sizes) == 16 else 0
        if tag == wanted:
            # Recorders that stream write 0 or all ones and never come back to fill it in.
            if length in (0, 0xFFFFFFFF):
                if not data_size_64 and size > at:
                    return _Samples(at, UNSTATED)
                length = data_size_64
            return _Samples(at, at + length)
        if at + length > size:
            break
        stream.seek(at + length + (length & 1))
    return _Samples(0, 0)


def open_sound(path: Path) -> sf.SoundFile:
    """A sound file opened for reading; one whose header leaves its length open, as if it said it.

    Raises `soundfile.LibsndfileError`.
    """
    samples = _samples_of(path)
    if samples.end != UNSTATED or not _is_riff(path):
        return sf.SoundFile(str(path))
    return sf.SoundFile(_FilledIn(path, samples.start))


def _is_riff(path: Path) -> bool:
    with path.open("rb") as stream:
        return stream.read(4) == b"RIFF"


class _FilledIn(io.RawIOBase):
    """A WAV file with the sizes in its header filled in as it is read; nothing is written."""

    def __init__(self, path: Path, start: int) -> None:
        self._stream = path.open("rb")
        size = min(path.stat().st_size, 0xFFFFFFFF)
        self._says = {4: struct.pack("<I", size - 8), start - 4: struct.pack("<I", size - start)}

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = 0) -> int:
        return self._stream.seek(offset, whence)

    def tell(self) -> int:
        return self._stream.tell()

    def readinto(self, into: Any) -> int:
        first = self._stream.tell()
        view = memoryview(into).cast("B")
        got = self._stream.readinto(view)
        for at, four in self._says.items():
            for n, byte in enumerate(four):
                if 0 <= at + n - first < got:
                    view[at + n - first] = byte
        return got

    def close(self) -> None:
        self._stream.close()
        super().close()
