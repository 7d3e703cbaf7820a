"""Kit files: samples from anywhere laid end to end in one sound, each with its head before it, so
that a layer cuts them out as it cuts a mic."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.replace.harvest import HEAD_S
from arkund.core.units import db_to_amplitude

BEGINS_DB = -30.0
"""A hit begins where it first comes so near to its peak."""

LONGEST_S = 4.0
SILENT = 1e-5


@dataclass(frozen=True)
class Kit:
    """The sound ``(frames,)`` and of each sample its first sample and how many."""

    sound: NDArray[np.float32]
    samples: tuple[tuple[int, int], ...]


def onset_of(sound: NDArray[np.float32]) -> int | None:
    """The sample at which a single hit ``(frames,)`` begins; None where nothing is heard."""
    level = np.abs(sound)
    peak = float(level.max(initial=0.0))
    if peak < SILENT:
        return None
    return int(np.argmax(level >= peak * db_to_amplitude(BEGINS_DB)))


def kit_of(hits: Sequence[NDArray[np.float32]], rate: int) -> Kit:
    """Single hits, one a sound ``(frames,)``, as a kit; silent ones are left out. At most 4 s of each.

    Raises `ValueError` where nothing is heard in any."""
    head = round(HEAD_S * rate)
    parts: list[NDArray[np.float32]] = []
    samples: list[tuple[int, int]] = []
    at = 0
    for hit in hits:
        onset = onset_of(hit)
        if onset is None:
            continue
        before = hit[max(onset - head, 0) : onset]
        part = np.concatenate(
            [
                np.zeros(head - len(before), np.float32),
                before,
                hit[onset : onset + round(LONGEST_S * rate)],
            ]
        )
        samples.append((at, len(part)))
        parts.append(part.astype(np.float32))
        at += len(part)
    if not parts:
        raise ValueError("nothing is heard in these samples")
    return Kit(np.concatenate(parts), tuple(samples))
