"""A song made quickly for tests: two mics, two seconds."""

from pathlib import Path

import numpy as np
import soundfile as sf

from arkund.songs import importing
from arkund.songs.models import Song


def small_song(folder: Path, name: str = "Tin Roof") -> Song:
    """Kick and snare struck in turn at 120 BPM for eight seconds."""
    folder.mkdir(parents=True, exist_ok=True)
    rate, rng = 48000, np.random.default_rng(3)
    time = np.arange(rate // 4) / rate
    sounds = {m: rng.standard_normal(rate * 8) * 1e-4 for m in ("Kick In", "Snare Top")}
    for beat in range(16):
        hz = 60 if beat % 2 == 0 else 200
        own, other = ("Kick In", "Snare Top") if beat % 2 == 0 else ("Snare Top", "Kick In")
        stroke = (np.sin(2 * np.pi * hz * time) + rng.standard_normal(len(time))
                  * np.exp(-time / 0.004)) * np.exp(-time / 0.05)  # fmt: skip
        at = round(beat * 0.5 * rate)
        sounds[own][at : at + len(stroke)] += 0.4 * stroke
        sounds[other][at + 60 : at + 60 + len(stroke)] += 0.03 * stroke[: len(stroke)]
    for mic, sound in sounds.items():
        sf.write(str(folder / f"{mic}.wav"), sound, rate, subtype="PCM_24")
    files = importing.guess_incoming(importing.files_of(folder))
    return importing.import_song(files, importing.Wishes(name, 120.0))[0]
