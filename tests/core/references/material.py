"""Sound under which the stored first sheets are rendered: bursts and rings at every mic, made by
numpy's generator alone, so that it never changes."""

import hashlib
import json
from pathlib import Path
from typing import Any

import numpy as np
import soundfile as sf

from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name
from arkund.core.sheet.lanes import Library
from arkund.core.timing.moves import ALL, EditList, Slice

HERE = Path(__file__).parent
RATE = 48000
SECONDS = 9
EVERY = 997
"""Every so many samples of a node are kept."""


def documents() -> dict[str, dict[str, Any]]:
    """The stored sheets by name, as they were written."""
    found: dict[str, dict[str, Any]] = json.loads((HERE / "first-sheets.json").read_text())
    return found


def digest_of(mic: str) -> str:
    """By which a sheet names a mic's sound."""
    return hashlib.sha256(mic.encode()).hexdigest()


def library(mics: list[str], folder: Path) -> Library:
    """The sound of ``mics`` written to ``folder``, their hits, and one edit list."""
    rng = np.random.default_rng(77)
    onsets = np.sort(rng.choice(RATE * SECONDS - 9000, 40, replace=False))
    pieces = ["kick", "snare", "tom_1", "tom_2", "tom_3", "hat"]
    hits = [
        Hit(str(i), pieces[i % 6], float(o / RATE), 90, "plain", 1.0, 0.0)
        for i, o in enumerate(onsets)
    ]
    paths = {}
    for number, mic in enumerate(sorted(mics)):
        own = np.random.default_rng(number)
        sound = own.standard_normal(RATE * SECONDS) * 0.0015
        for i, onset in enumerate(onsets):
            loud = 0.7 if pieces[i % 6] == parse_mic_name(mic).piece else 0.06
            ring = np.sin(own.uniform(0.01, 0.3) * np.arange(9000)) * np.exp(
                -np.arange(9000) / 1800
            )
            sound[onset : onset + 9000] += ring * loud * own.uniform(0.4, 1.0)
        path = folder / f"{mic}.wav"
        sf.write(str(path), np.clip(sound, -1, 1).astype(np.float32), RATE, subtype="FLOAT")
        paths[digest_of(mic)] = path
    edits = EditList(
        (), {ALL: (Slice(0, 0, 64), Slice(RATE * 3, 480, 96), Slice(RATE * 6, -300, 96))}
    )
    return Library(paths.__getitem__, lambda digest: hits, lambda digest: edits)
