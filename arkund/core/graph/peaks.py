"""How loud hits are, found for some at a time and remembered."""

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.graph.memory import Memory
from arkund.core.graph.nodes import Node, Reader
from arkund.core.replace.harvest import PEAK_S
from arkund.core.units import amplitudes_to_db

TYPICAL_FLOOR_DB = -120.0

lately = Memory(64 << 20)


SILENT_DB = -80.0

AT_ONCE = 8
"""Hits that are decided together, and remembered by what is heard about them: as many as leave
most of a song alone where some bars of it are moved."""


def remembered(key: str, compute: Callable[[], NDArray[Any]]) -> NDArray[Any]:
    """What a few hits sound like or get: most changes of a song leave most of them alone."""
    found = lately.get(key)
    if found is None:
        found = compute()
        lately.put(key, found)
    return found


def peaks_db(reader: Reader, node: Node, onsets: Sequence[int]) -> list[float]:
    """Peak of the 30 ms from each onset on, in dBFS."""
    length = round(PEAK_S * reader.rate)
    peaks = [float(np.abs(reader.read(node, at, at + length)).max(initial=0.0)) for at in onsets]
    return [float(level) for level in levels_db(peaks)]


def levels_db(peaks: Sequence[float]) -> NDArray[np.float64]:
    """Levels ``(n,)`` in dB of ``n`` linear peaks, none below the floor of a typical hit."""
    return np.maximum(amplitudes_to_db(np.array(peaks)), TYPICAL_FLOOR_DB)
