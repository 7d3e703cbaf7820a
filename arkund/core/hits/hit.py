"""What a hit list holds: one hit on one piece, with its time, velocity, kind and confidence."""

import hashlib
from dataclasses import dataclass

import numpy as np

SAME_HIT_S = 0.030
"""Onsets closer than this are one hit."""


@dataclass(frozen=True)
class Hit:
    """One hit. ``time_s`` is the first arrival at the piece's nearest close mic (else at the
    nearest mic) in the source file; ``velocity`` 1–127; ``level_db`` its energy in dB against a
    typical loud hit of the piece; ``grace_s`` how long before it its grace note fell."""

    id: str
    piece: str
    time_s: float
    velocity: int
    kind: str
    confidence: float
    level_db: float
    grace_s: float | None = None

    def __hash__(self) -> int:
        # Whole lists of hits are keys of what is remembered; two of its fields tell a hit.
        return hash((self.id, self.time_s))


LOUD = 90
"""The loud hits of a piece are measured at this percentile of its levels."""


def hit_id(piece: str, time_s: float) -> str:
    """Stable id: piece and time to the millisecond, hashed."""
    return hashlib.sha1(f"{piece}@{round(time_s * 1000)}".encode()).hexdigest()[:10]


def velocity_of(level_db: float) -> int:
    """MIDI velocity of a level against the piece's loud hits: 112 at 0 dB, half at −12 dB."""
    return int(np.clip(round(112 * 10 ** (level_db / 40)), 1, 127))


def kind_of(level_db: float) -> str:
    """Accent, plain or ghost by a level against the piece's loud hits."""
    if level_db > -3.5:
        return "accent"
    return "ghost" if level_db < -11 else "plain"
