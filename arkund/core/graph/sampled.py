"""Shaping a sample before it is laid: shifted by a fraction, faded, choked."""

import numpy as np

from arkund.core.graph.adding import filter_valid, taps_late
from arkund.core.process.stage import Audio
from arkund.core.replace.tone import CHOKE_S


def shifted(sound: Audio, fraction: float) -> Audio:
    """A sound ``fraction`` of a sample later, 32 samples of it before its beginning and after its end
    (64-tap windowed sinc, flat within 0.1 dB to 16 kHz at 44.1 kHz)."""
    room = np.zeros(64, np.float32)
    return filter_valid(np.concatenate([room, sound, room[:63]]), taps_late(fraction))


def faded(sound: Audio, fade_in: int, fade_out: int) -> Audio:
    """A copy that begins and ends over so many samples, a quarter and a half of it at most."""
    out = np.array(sound)
    rise = min(fade_in, len(out) // 4)
    fall = min(fade_out, len(out) // 2)
    out[:rise] *= (0.5 - 0.5 * np.cos(np.pi * np.arange(rise) / rise)).astype(np.float32)
    out[len(out) - fall :] *= (0.5 + 0.5 * np.cos(np.pi * np.arange(1, fall + 1) / fall)).astype(
        np.float32
    )
    return out


def choked(sound: Audio, length: int, rate: int) -> Audio:
    """What is left of a sound that must be over after ``length`` samples."""
    if length >= len(sound):
        return sound
    out = np.array(sound[: max(length, 0)])
    fall = min(round(CHOKE_S * rate), len(out))
    if fall:
        out[-fall:] *= (0.5 + 0.5 * np.cos(np.pi * np.arange(1, fall + 1) / fall)).astype(
            np.float32
        )
    return out
