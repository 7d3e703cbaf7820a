"""Stored analyses of takes: delays, levels, and what the hit list may lack."""

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field

import numpy as np

from arkund.core.align.pairs import Pair
from arkund.core.measure.levels import measure_mic
from arkund.core.sheet.sheet import Take
from arkund.songs import storage

NOT_THERE = measure_mic(np.zeros(0, np.float32), 48000).as_dict()
"""What is shown of a mic that has no file in a take."""


@dataclass(frozen=True)
class Analysis:
    """What was measured in one take: pairs of mics, and by mic its measures, the name its file
    came under, and how loud each piece is in it (dBFS); by piece the times in s at which its mic
    hears what may be a hit that the list lacks (``unlisted``)."""

    pairs: tuple[Pair, ...] = ()
    measures: Mapping[str, Mapping[str, object]] = field(default_factory=dict)
    files: Mapping[str, str] = field(default_factory=dict)
    heard: Mapping[str, Mapping[str, float]] = field(default_factory=dict)
    unlisted: Mapping[str, Sequence[float]] = field(default_factory=dict)


def store(analysis: Analysis) -> str:
    """Keep an analysis; returns its content hash."""
    return storage.store_analysis(asdict(analysis))


FIRST_NAMES = {"strokes": "hits"}


def analysis_of(take: Take) -> Analysis:
    """The analysis that a take of a sheet names; an empty one where it names none."""
    if take.analysis is None:
        return Analysis()
    stored = storage.load_analysis(take.analysis)
    return Analysis(
        # Analyses that were stored when hits were called strokes read on.
        tuple(Pair(**{FIRST_NAMES.get(k, k): v for k, v in p.items()}) for p in stored["pairs"]),
        stored["measures"],
        stored["files"],
        stored["heard"],
        stored.get("unlisted", {}),
    )
