"""WAV files written block by block, with a time stamp and markers (EBU Tech 3285; RIFF's cue and label chunks)."""

import struct
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Literal

Encoding = Literal["pcm24", "float32"]

LARGEST = 0xFFFFFFFF
"""Most bytes that a RIFF file can say that it has."""

_PCM, _FLOAT = 1, 3
_BEXT = struct.Struct("<256s32s32s10s8sIIH254s")
_CUE = struct.Struct("<II4sIII")


@dataclass(frozen=True)
class Stamp:
    """What a broadcast wave file says of itself: in words (256 ASCII characters), who made it (32), when, and
    at which sample since midnight it begins."""

    description: str
    originator: str
    made: datetime
    time_reference: int = 0

    def packed(self) -> bytes:
        """The content of the ``bext`` chunk, version 1."""
        return _BEXT.pack(
            self.description.encode("ascii", "replace"),
            self.originator.encode("ascii", "replace"),
            b"",
            self.made.strftime("%Y-%m-%d").encode(),
            self.made.strftime("%H:%M:%S").encode(),
            self.time_reference & 0xFFFFFFFF,
            self.time_reference >> 32,
            1,
            b"",
        )


@dataclass(frozen=True)
class Marker:
    """A named place, in samples from the file's first."""

    at: int
    text: str


def _chunk(tag: bytes, content: bytes) -> bytes:
    return tag + struct.pack("<I", len(content)) + content + b"\0" * (len(content) & 1)


def _labelled(markers: Sequence[Marker]) -> bytes:
    """The chunks that stand behind the samples and name places in them."""
    if not markers:
        return b""
    cues = [_CUE.pack(n, m.at, b"data", 0, 0, m.at) for n, m in enumerate(markers, start=1)]
    labels = [
        _chunk(b"labl", struct.pack("<I", n) + m.text.encode() + b"\0")
        for n, m in enumerate(markers, start=1)
    ]
    count = struct.pack("<I", len(markers))
    return _chunk(b"cue ", count + b"".join(cues)) + _chunk(b"LIST", b"adtl" + b"".join(labels))


class WaveWriter:
    """A WAV file being written: packed samples in, sizes filled in by `close`."""

    def __init__(
        self,
        path: Path,
        rate: int,
        channels: int,
        encoding: Encoding,
        stamp: Stamp | None = None,
        markers: Sequence[Marker] = (),
    ) -> None:
        self._stream = path.open("wb")
        self._markers = markers
        self._frame = channels * (3 if encoding == "pcm24" else 4)
        is_float = encoding == "float32"
        form = struct.pack(
            "<HHIIHH",
            _FLOAT if is_float else _PCM,
            channels,
            rate,
            rate * self._frame,
            self._frame,
            8 * self._frame // channels,
        )
        self._stream.write(b"RIFF\0\0\0\0WAVE")
        if stamp is not None:
            self._stream.write(_chunk(b"bext", stamp.packed()))
        self._stream.write(_chunk(b"fmt ", form + (b"\0\0" if is_float else b"")))
        self._fact = 0
        if is_float:
            self._fact = self._stream.tell() + 8
            self._stream.write(_chunk(b"fact", bytes(4)))
        self._stream.write(b"data\0\0\0\0")
        self._begins = self._stream.tell()

    def write(self, samples: bytes | memoryview) -> None:
        """Whole frames, little-endian, channels beside each other."""
        self._stream.write(samples)

    def close(self) -> None:
        """Name the places and fill in the sizes."""
        size = self._stream.tell() - self._begins
        self._stream.write(b"\0" * (size & 1) + _labelled(self._markers))
        whole = self._stream.tell()
        said = [(4, whole - 8), (self._begins - 4, size)]
        if self._fact:
            said.append((self._fact, size // self._frame))
        for at, value in said:
            self._stream.seek(at)
            self._stream.write(struct.pack("<I", value))
        self._stream.close()
