"""Bars and beats of a song with a constant tempo, and the tempo estimated from its strokes."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Grid:
    """``bpm`` quarter notes a minute; ``beats`` of a ``unit``-th note to the bar; bar 1 begins at
    ``first_downbeat_s``."""

    bpm: float
    beats: int = 4
    unit: int = 4
    first_downbeat_s: float = 0.0

    @property
    def beat_s(self) -> float:
        return 60.0 / self.bpm * 4 / self.unit

    @property
    def bar_s(self) -> float:
        return self.beat_s * self.beats

    def bar_start_s(self, bar: float) -> float:
        """Seconds at which a bar (1-based, fractions allowed) begins."""
        return self.first_downbeat_s + (bar - 1) * self.bar_s

    def bar_at(self, seconds: float) -> float:
        """Bar (1-based, with its fraction) at a time."""
        return 1 + (seconds - self.first_downbeat_s) / self.bar_s

    def place(self, seconds: float) -> str:
        """``8.2.31``: bar, beat, hundredths of a beat."""
        beats = max(seconds - self.first_downbeat_s, 0.0) / self.beat_s
        bar, rest = divmod(beats, self.beats)
        return f"{int(bar) + 1}.{int(rest) + 1}.{int(rest % 1 * 100):02d}"

    def bars_in(self, seconds: float) -> int:
        """Number of whole or begun bars until ``seconds``."""
        return max(1, int(np.ceil((seconds - self.first_downbeat_s) / self.bar_s - 1e-6)))

    def frames_of_bars(self, first: int, last: int, rate: int) -> tuple[int, int]:
        """Sample span of bars ``first`` to ``last``, both included."""
        start = round(self.bar_start_s(first) * rate)
        return max(start, 0), round(self.bar_start_s(last + 1) * rate)


def parse_meter(text: str) -> tuple[int, int]:
    """``(4, 4)`` of ``4/4``; raises `ValueError` with a sentence otherwise."""
    try:
        beats, unit = (int(part) for part in text.split("/"))
    except ValueError:
        raise ValueError(f"“{text}” is not a meter such as 4/4 or 6/8.") from None
    if not 1 <= beats <= 32 or unit not in (2, 4, 8, 16):
        raise ValueError(f"“{text}” is not a meter such as 4/4 or 6/8.")
    return beats, unit


def estimate_tempo(
    onsets_s: NDArray[np.float64], weights: NDArray[np.float64], low: float = 60, high: float = 200
) -> tuple[float, float, float] | None:
    """``(bpm, first beat in s, confidence)`` of a constant tempo; None with under eight strokes.

    The tempo at which the strokes, weighted, agree most in phase on eighths (the circular mean of
    their places), preferring the middle of the range as listeners do; then least squares on the
    nearest grid lines. The first beat is where kicks should fall: pass the kick's strokes heavier.
    """
    if len(onsets_s) < 8:
        return None
    times = onsets_s - onsets_s[0]

    def agreement(bpm: NDArray[np.float64], per_beat: int) -> NDArray[np.float64]:
        phase = np.exp(2j * np.pi * np.outer(bpm / 60 * per_beat, times))
        return np.abs(phase @ weights) / weights.sum()

    step = 6.0 / max(times[-1], 1.0)
    bpms = np.arange(low, high, step)
    score = agreement(bpms, 4) + 0.6 * agreement(bpms, 2) + 0.4 * agreement(bpms, 1)
    score *= np.exp(-0.5 * (np.log2(bpms / 115) / 0.9) ** 2)
    bpm = float(bpms[np.argmax(score)])
    for _ in range(3):
        phase = np.angle(np.sum(weights * np.exp(2j * np.pi * times * bpm / 60 * 4)))
        offset = phase / (2 * np.pi)
        steps = np.rint(times * bpm / 60 * 4 - offset)
        close = np.abs(times * bpm / 60 * 4 - offset - steps) < 0.3
        if close.sum() < 8:
            break
        slope, _ = np.polyfit(steps[close], times[close], 1, w=np.sqrt(weights[close]))
        bpm = 15.0 / float(slope)
    beat = 60 / bpm
    angle = np.angle(np.sum(weights * np.exp(2j * np.pi * times / beat)))
    first = float(onsets_s[0] + angle / (2 * np.pi) * beat)
    confidence = float(agreement(np.array([bpm]), 4)[0])
    return round(bpm, 3), first % beat, confidence


RELATED = (0.5, 2 / 3, 1.0, 1.5, 2.0)
"""Tempos at which the same strokes fit a grid as well."""

STAY = 0.3
"""What it costs, in octaves of spacing, to leave the tempo that was found first."""


def tempo_by_backbeat(
    bpm: float, backbeats_s: NDArray[np.float64], low: float = 50, high: float = 220
) -> float:
    """Which of the tempos related to ``bpm`` is meant: that at which the snare's accents lie two
    beats apart, as backbeats do. A slow song is else read at twice its tempo, a shuffle at one and
    a half times. Under eight accents ``bpm`` stands."""
    gaps = np.diff(np.sort(backbeats_s))
    gaps = gaps[gaps > 0.15]
    if len(gaps) < 7:
        return bpm
    spacing = float(np.median(gaps)) * bpm / 60

    def cost(ratio: float) -> float:
        return abs(np.log2(spacing * ratio / 2)) + (STAY if ratio != 1.0 else 0.0)

    return bpm * min((r for r in RELATED if low <= bpm * r <= high), key=cost, default=1.0)
