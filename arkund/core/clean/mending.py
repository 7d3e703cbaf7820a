"""Mending a source: clipped runs rebuilt, single hits turned down, mains hum notched out."""

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.shape import biquad

SPLINE_REACH = 6
"""Sound samples to either side of a clipped run that its curve is drawn through."""

HUM_WIDTH_HZ = 1.7
"""Width of a hum notch at −3 dB: wider than mains wander, narrower than any drum's own line."""


def rebuild(audio: NDArray[np.float32], at: int, frames: int) -> None:
    """Replace ``frames`` clipped samples of ``audio`` ``(all frames,)`` from ``at`` in place by a cubic spline
    through the
    `SPLINE_REACH` sound samples to either side; never lower than what was clipped."""
    before = np.arange(at - SPLINE_REACH, at)
    after = np.arange(at + frames, at + frames + SPLINE_REACH)
    known = np.concatenate([before, after])
    if known[0] < 0 or known[-1] >= len(audio):
        return
    lost = np.arange(at, at + frames)
    drawn = scipy.interpolate.CubicSpline(known, audio[known].astype(np.float64))(lost)
    sign = np.sign(audio[at])
    audio[lost] = sign * np.maximum(sign * drawn, np.abs(audio[lost]))


def ease_gain(audio: NDArray[np.float32], at: int, frames: int, factor: float, rate: int) -> None:
    """Multiply ``frames`` samples of ``audio`` ``(all frames,)`` from ``at`` in place by ``factor``; the gain
    travels there
    within the 2 ms before and comes back within the 2 ms after, linear in dB."""
    ease = max(round(0.002 * rate), 1)
    first, last = max(at - ease, 0), min(at + frames + ease, len(audio))
    if first >= last:
        return
    n = np.arange(first, last)
    share = np.clip(np.minimum((n - at + ease) / ease, (at + frames + ease - n) / ease), 0, 1)
    audio[first:last] *= (factor**share).astype(np.float32)


def hum_sections(hum_hz: float, lines: int, rate: int) -> list[biquad.Section]:
    """A notch `HUM_WIDTH_HZ` wide at each of the first ``lines`` harmonics below 0.45 of the rate.

    The bilinear notch of the second order: zeros on the unit circle at the line, gain 1 far off.
    """
    out: list[biquad.Section] = []
    for number in range(1, lines + 1):
        hz = hum_hz * number
        if hz >= 0.45 * rate:
            break
        width = np.tan(np.pi * HUM_WIDTH_HZ / rate)
        scale = 1 / (1 + width)
        turn = -2 * np.cos(2 * np.pi * hz / rate) * scale
        out.append((scale, turn, scale, turn, (1 - width) * scale))
    return out
