"""How many attacks are heard at a moment: two hits that were meant as one are heard as a flam."""

import numpy as np
import scipy
from numpy.typing import NDArray

ABOVE_HZ = 300.0
"""Attacks are looked for above the drums' own tones, whose halves of a wave would each be one."""

SMOOTH_S = 0.005
REACH_S = 0.030
"""What follows later is another hit."""

RISE_DB, RISE_S = 3.0, 0.006
"""An attack rises by so much within so long."""

UNDER_DB = 15.0
"""What peaks further under the loudest attack is masked by it."""

APART_S = 0.005
STEP_S = 0.0005


def attacks(sound: NDArray[np.float32], rate: int, at: int) -> list[float]:
    """Attacks within 30 ms of sample ``at`` of ``sound`` ``(frames,)``: their times in s from there.

    The envelope is the power above 300 Hz over a Hann window of 5 ms. An attack is a maximum of it that
    rises by 3 dB or more out of the 6 ms before, and that lies no more than 15 dB under the loudest one;
    of two within 5 ms the first counts. ``rate`` is in Hz. Silence has none.
    """
    first = max(at - round(2 * REACH_S * rate), 0)
    part = sound[first : at + round(2 * REACH_S * rate)]
    step = max(round(STEP_S * rate), 1)
    if len(part) < 8 * step or not np.any(part):
        return []
    high = scipy.signal.butter(2, ABOVE_HZ, "high", fs=rate, output="sos")
    window = np.hanning(round(SMOOTH_S * rate) | 1)
    power = scipy.signal.fftconvolve(
        scipy.signal.sosfilt(high, part) ** 2, window / window.sum(), "same"
    )
    level = 10 * np.log10(np.maximum(power[::step], 1e-15))
    peaks, _ = scipy.signal.find_peaks(level, height=level.max() - UNDER_DB)
    before = round(RISE_S * rate / step)
    found: list[float] = []
    for peak in peaks.tolist():
        away = (first + peak * step - at) / rate
        rise = level[peak] - level[max(peak - before, 0) : peak + 1].min()
        is_fresh = not found or away - found[-1] > APART_S
        if abs(away) <= REACH_S and rise >= RISE_DB and is_fresh:
            found.append(away)
    return found
