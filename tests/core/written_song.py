"""A small song of sounds made for a test, written to files as a song's sources are."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.sheet import Sheet, Source, Take


def written_song(
    folder: Path, sounds: Mapping[str, np.ndarray[Any, Any]], rate: int, **fields: Any
) -> tuple[Sheet, dict[str, Path]]:
    """A sheet of one take of ``sounds`` by mic, ``(frames,)`` each, whose other ``fields`` are as given;
    and the files by what its sources name."""
    paths, sources = {}, {}
    for number, (mic, sound) in enumerate(sounds.items()):
        digest = f"{number}" * 64
        paths[digest] = folder / f"{mic}.wav"
        sf.write(str(paths[digest]), sound.astype(np.float32), rate, subtype="FLOAT")
        sources[mic] = Source(sha256=digest)
    mics = {m: new_mic(m) for m in sounds}
    take = Take(number=1, sources=sources, hits="0" * 64)
    frames = max(len(sound) for sound in sounds.values())
    sheet = Sheet(
        rate=rate, frames=frames, mics=mics, groups=groups_for(mics), takes=(take,), **fields
    )
    return sheet, paths
