"""The time stamp of a broadcast wave file (EBU Tech 3285): when its first sample was recorded."""

import struct
from pathlib import Path

_REFERENCE_AT = 338
"""Bytes of description, originator, its reference, date and time that stand before the stamp."""


def time_reference(path: Path) -> int | None:
    """Samples since midnight at the file's rate; None where the file does not say.

    0 is what recorders write that do not know, so it says nothing either.
    """
    with path.open("rb") as stream:
        head = stream.read(12)
        if len(head) < 12 or head[:4] not in (b"RIFF", b"RF64") or head[8:] != b"WAVE":
            return None
        while len(header := stream.read(8)) == 8:
            length = struct.unpack("<I", header[4:])[0]
            if header[:4] == b"bext":
                chunk = stream.read(_REFERENCE_AT + 8)
                if len(chunk) < _REFERENCE_AT + 8 or length < _REFERENCE_AT + 8:
                    return None
                low, high = struct.unpack("<II", chunk[_REFERENCE_AT:])
                return (high << 32 | low) or None
            if header[:4] == b"data" and length in (0, 0xFFFFFFFF):
                return None  # what follows cannot be found
            stream.seek(length + (length & 1), 1)
    return None
