"""Onsets in a close mic, a quarter of a millisecond at a time: when each begins, and how loud what is new is."""

from dataclasses import dataclass

import numpy as np
from numpy.lib.stride_tricks import sliding_window_view
from numpy.typing import NDArray

FRAME_S = 0.00025
"""Peaks are taken of frames so long: fine enough to tell which mic comes first."""

RISE_DB = 6.0
"""How far an onset stands above what sounded in the 12 ms before."""

RISE_FRAMES, BEFORE_FRAMES, LEVEL_FRAMES = 16, 48, 48
RING_FRAMES = 112
"""A ring that beats or dips comes back within so long: nothing in that is new."""

APART_S = 0.018
OF_PEAK = 0.25


@dataclass(frozen=True)
class Onsets:
    """Onsets of one mic: the frame in which each begins, and its level as amplitude, what sounded before
    taken off."""

    at: NDArray[np.int64]
    level: NDArray[np.float64]


def frame_peaks(sound: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """Largest magnitude in each frame of `FRAME_S`, ``(frames,)``, of a mic ``(samples,)``."""
    edges = (np.arange(int(len(sound) / rate / FRAME_S) + 1) * FRAME_S * rate).astype(np.int64)
    edges = edges[edges < len(sound)]
    if not len(edges):
        return np.zeros(0)
    return np.maximum.reduceat(np.abs(sound), edges).astype(np.float64)


def onsets_in(peaks: NDArray[np.float64], steep: NDArray[np.float64]) -> Onsets:
    """Onsets ``(onsets,)`` of a mic, as frames, from the peaks ``(frames,)`` of its frames and those of its slope."""
    rises = _rises(peaks) | _rises(steep)
    frames = np.flatnonzero(rises)
    if not len(frames):
        return Onsets(np.zeros(0, np.int64), np.zeros(0))
    apart = round(APART_S / FRAME_S)
    first = frames[np.diff(frames, prepend=-10 * apart) > 8]
    padded = np.concatenate([peaks, np.zeros(LEVEL_FRAMES)])
    at: list[int] = []
    for frame in first:
        ahead = padded[frame : frame + LEVEL_FRAMES]
        begin = int(frame + np.argmax(ahead >= OF_PEAK * ahead.max()))
        if not at or begin - at[-1] >= apart:
            at.append(begin)
    places = np.array(at, np.int64)
    return Onsets(places, new_level(peaks, places, 0, LEVEL_FRAMES))


def new_level(
    peaks: NDArray[np.float64], at: NDArray[np.int64], before: int, after: int
) -> NDArray[np.float64]:
    """The level ``(onsets,)`` that is new around the frames ``at``: the peak from ``before`` frames earlier to
    ``after`` later,
    less in power than what sounded in the 28 ms before that."""
    length = before + after
    padded = np.concatenate([np.zeros(RING_FRAMES), peaks, np.zeros(length)])
    start = np.clip(at - before, 0, len(peaks) - 1)
    loud = sliding_window_view(padded, length)[start + RING_FRAMES].max(axis=1)
    rest = sliding_window_view(padded, RING_FRAMES)[start].max(axis=1)
    # Where nothing is new it may be hidden in what rings: a fifth of that at most.
    out: NDArray[np.float64] = np.sqrt(np.maximum(loud**2 - rest**2, (0.2 * loud) ** 2) + 1e-14)
    return out


def _rises(peaks: NDArray[np.float64]) -> NDArray[np.bool_]:
    if len(peaks) <= BEFORE_FRAMES:
        return np.zeros(len(peaks), bool)
    ahead = _running_max(peaks, RISE_FRAMES)
    earlier = np.concatenate(
        [np.zeros(BEFORE_FRAMES), _running_max(peaks, BEFORE_FRAMES)[:-BEFORE_FRAMES]]
    )
    out: NDArray[np.bool_] = ahead > earlier * 10 ** (RISE_DB / 20) + 1e-6
    return out


def _running_max(values: NDArray[np.float64], length: int) -> NDArray[np.float64]:
    """Largest of each value and the ``length`` - 1 after it, by doubling."""
    out = values.copy()
    have = 1
    while have < length:
        step = min(have, length - have)
        if step >= len(out):
            break
        out[:-step] = np.maximum(out[:-step], out[step:])
        have += step
    return out
