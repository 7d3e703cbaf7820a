"""WAV files of our own, read back by libsndfile and by a reader of broadcast wave files."""

import struct
from datetime import datetime
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import soundfile as sf
from wavinfo import WavInfoReader

from arkund.core.audio.broadcast import time_reference
from arkund.core.audio.wave_writing import Encoding, Marker, Stamp, WaveWriter
from arkund.core.render.dither import packed

STAMP = Stamp(
    "Copper Weather, revision 7: “glue”", "Arkund", datetime(2026, 3, 4, 5, 6, 7), 5 << 32
)
MARKERS = (Marker(0, "Verse"), Marker(4800, "Chorus 1"))


def written(path: Path, encoding: Encoding, frames: int, channels: int, **notes: Any) -> np.ndarray:
    """Noise of whole 24-bit steps, in two blocks."""
    rng = np.random.default_rng(1)
    steps = rng.integers(-(1 << 23), 1 << 23, (frames, channels), np.int32)
    file = WaveWriter(path, 48_000, channels, encoding, **notes)
    for block in (steps[: frames // 3], steps[frames // 3 :]):
        if encoding == "pcm24":
            file.write(packed(block.reshape(-1)).data)
        else:
            file.write((block / (1 << 23)).astype(np.float32).tobytes())
    file.close()
    return steps / (1 << 23)


@pytest.mark.parametrize("encoding", ["pcm24", "float32"])
@pytest.mark.parametrize(("frames", "channels"), [(5001, 1), (5000, 2), (0, 2)])
@pytest.mark.parametrize("notes", [{}, {"stamp": STAMP, "markers": MARKERS}])
def test_samples_come_back_as_they_were(
    tmp_path: Path, encoding: Encoding, frames: int, channels: int, notes: dict[str, Any]
) -> None:
    path = tmp_path / "one.wav"
    sound = written(path, encoding, frames, channels, **notes)
    read, rate = sf.read(str(path), always_2d=True)
    assert rate == 48_000
    assert sf.info(str(path)).subtype == {"pcm24": "PCM_24", "float32": "FLOAT"}[encoding]
    np.testing.assert_array_equal(read, sound)
    size = path.stat().st_size
    assert struct.unpack("<I", path.read_bytes()[4:8])[0] == size - 8


def test_a_reader_of_broadcast_files_finds_stamp_and_markers(tmp_path: Path) -> None:
    path = tmp_path / "one.wav"
    written(path, "pcm24", 9601, 1, stamp=STAMP, markers=MARKERS)
    read = WavInfoReader(str(path))
    assert read.bext.description.startswith("Copper Weather, revision 7")
    assert read.bext.originator == "Arkund"
    assert (read.bext.originator_date, read.bext.originator_time) == ("2026-03-04", "05:06:07")
    assert read.bext.time_reference == 5 << 32 == time_reference(path)
    assert read.data.frame_count == 9601
    cues = {cue.name: cue.sample_offset for cue in read.cues.cues}
    labels = {label.name: label.text.rstrip("\0") for label in read.cues.labels}
    assert {labels[name]: at for name, at in cues.items()} == {"Verse": 0, "Chorus 1": 4800}
