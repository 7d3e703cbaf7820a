"""Even hits: one gain a hit, within the hit's own window, toward where its like peaks."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.clean.gate import Envelope

EASE_IN_S, EASE_OUT_S = 0.001, 0.03
LONGEST_S = 0.35
MOST_DB = 12.0


def even_gains_db(
    peaks_db: Sequence[float], kinds: Sequence[str], amount: float
) -> NDArray[np.float64]:
    """Gain of each hit in dB: ``amount`` (0 to 1) of the way from its peak to the median of its
    like, accents toward accents and the others toward the others; ghosts stay as they are. At most
    12 dB."""
    peaks = np.asarray(peaks_db, np.float64)
    like = np.array([k if k in ("accent", "ghost") else "plain" for k in kinds])
    out = np.zeros(len(peaks))
    for kind in ("accent", "plain"):
        own = like == kind
        if own.any():
            out[own] = amount * (np.median(peaks[own]) - peaks[own])
    return np.clip(out, -MOST_DB, MOST_DB)


def windows(onsets: Sequence[int], rate: int, frames: int) -> list[tuple[int, int]]:
    """Each hit's own window in samples: from 1 ms before it until the next one of its drum, at
    most 350 ms."""
    out = []
    for n, onset in enumerate(onsets):
        following = onsets[n + 1] if n + 1 < len(onsets) else frames
        stop = min(following - round(2 * EASE_IN_S * rate), onset + round(LONGEST_S * rate), frames)
        out.append((max(onset - round(EASE_IN_S * rate), 0), max(stop, onset + 1)))
    return out


def ridden(spans: Sequence[tuple[int, int]], gains_db: Sequence[float], rate: int) -> Envelope:
    """The gain over time: each span's own inside it, come to within 1 ms and left within the last
    30 ms of it (or half of it); 0 dB between."""
    positions, gains = [0.0], [0.0]
    ease_in, ease_out = EASE_IN_S * rate, EASE_OUT_S * rate
    for (first, last), gain in zip(spans, gains_db, strict=True):
        if abs(gain) < 1e-6 or first < positions[-1]:
            continue
        full = first + min(ease_in, (last - first) / 4)
        leave = max(last - ease_out, (first + last) / 2)
        for at, value in ((first, 0.0), (full, gain), (leave, gain), (last, 0.0)):
            if at > positions[-1]:
                positions.append(float(at))
                gains.append(float(value))
            else:
                gains[-1] = float(value)
    return Envelope(np.array(positions), np.array(gains))
