"""What judgement of a sum listens to: a stereo node from the first stroke on, and the strokes in it."""

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.advise.study import Study
from arkund.core.kit.roles import is_shell
from arkund.core.mix.nodes import Node

LONGEST_HEARD_S = 60.0
FLAM_MS, NO_GAP_MS = 60.0, 500.0
"""Strokes no farther apart are one; where there are no gaps, one of so much is supposed."""


def _start(study: Study) -> int:
    first = study.hits[0].time_s if study.hits else 0.0
    return max(round((first - 0.2) * study.rate), 0)


def heard(study: Study, node: Node, longest_s: float = LONGEST_HEARD_S) -> NDArray[np.float32]:
    """A node from the first stroke on, for at most ``longest_s``."""
    start = _start(study)
    stop = min(start + round(longest_s * study.rate), study.sheet.frames)
    return study.engine.read(node, start, stop)


def shell_times(study: Study, wanted: Callable[[str], bool] = lambda piece: True) -> list[float]:
    """Shells' strokes without ghosts as they fall in `heard`, in s."""
    start = _start(study) / study.rate
    return [
        h.time_s - start
        for h in study.hits
        if is_shell(h.piece)
        and h.kind != "ghost"
        and wanted(h.piece)
        and h.time_s - start < LONGEST_HEARD_S - 0.5
    ]


def gap_ms(times: Sequence[float], percentile: float) -> float:
    """Gap between strokes (in s) in ms: of all gaps the one at a percentile."""
    gaps = np.diff(np.sort(times)) * 1000
    gaps = gaps[gaps > FLAM_MS]
    return float(np.percentile(gaps, percentile)) if len(gaps) else NO_GAP_MS
