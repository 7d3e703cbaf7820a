"""Bringing a file to the song's rate, block by block, by soxr."""

from pathlib import Path

import numpy as np
import soundfile as sf
import soxr

from arkund.core.audio.containers import open_sound


def resample_file(source: Path, target: Path, rate: int) -> None:
    """Write ``source`` at ``rate`` Hz to ``target`` as 32-bit float WAV.

    Very-high-quality setting of soxr: linear phase, so nothing moves in time.
    """
    with open_sound(source) as reader:
        stream = soxr.ResampleStream(
            reader.samplerate, rate, reader.channels, dtype="float32", quality="VHQ"
        )
        with sf.SoundFile(
            str(target), "w", rate, reader.channels, subtype="FLOAT", format="WAV"
        ) as writer:
            for block in reader.blocks(1 << 16, dtype="float32", always_2d=True):
                writer.write(stream.resample_chunk(block))
            tail = np.zeros((0, reader.channels), np.float32)
            writer.write(stream.resample_chunk(tail, last=True))
