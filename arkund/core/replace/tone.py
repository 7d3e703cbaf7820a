"""The sub layer's tone: a sine with attack, decay, a pitch that falls, and drive."""

import math
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

FALL_S = 0.04
"""The pitch has come down to 1/e of its fall after so long."""

CHOKE_S = 0.005
LONGEST_S = 2.0


@lru_cache(maxsize=32)
def tone(
    rate: int,
    note_hz: float,
    attack_ms: float,
    decay_ms: float,
    fall: float = 0.0,
    drive_db: float = 0.0,
) -> NDArray[np.float32]:
    """One hit of the tone, ``(frames,)``, peak 1 at most; not to be written to.

    It begins ``fall`` semitones above ``note_hz``; after ``decay_ms`` it has fallen by 60 dB and
    ends. Drive bends it by x/√(1+x²), its slope taken back. The attack is half a cosine, so that it
    begins without a click whatever its length.
    """
    frames = round(min(decay_ms / 1000, LONGEST_S) * rate)
    time = np.arange(frames) / rate
    semitones = fall * np.exp(-time / FALL_S)
    phase = 2 * math.pi * np.cumsum(note_hz * 2 ** (semitones / 12)) / rate
    sine = np.sin(phase - phase[0]) if frames else np.zeros(0)
    level = 10 ** (-3 * time * 1000 / decay_ms)
    rise = min(max(round(attack_ms * rate / 1000), 1), frames)
    level[:rise] *= 0.5 - 0.5 * np.cos(np.pi * np.arange(rise) / rise)
    end = min(round(CHOKE_S * rate), frames)
    if end:
        level[-end:] *= 0.5 + 0.5 * np.cos(np.pi * np.arange(1, end + 1) / end)
    out = sine * level
    if drive_db > 0:
        x = out * 10 ** (drive_db / 20)
        out = x / np.sqrt(1 + x * x)
        out /= max(float(np.abs(out).max(initial=0.0)), 1e-9)
    return out.astype(np.float32)
