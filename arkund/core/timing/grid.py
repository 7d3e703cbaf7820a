"""Bars and beats of a song, and a constant tempo estimated from its hits."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.once import once

LAST_BAR = 20_000
SLOWEST_BPM, FASTEST_BPM = 20.0, 400.0
MOST_BEATS = 32
Unit = Literal[2, 4, 8, 16]
"""The note that a meter counts: a half to a sixteenth."""


@dataclass(frozen=True)
class Change:
    """From the beginning of ``bar`` on: another tempo, another meter, or both."""

    bar: int
    bpm: float
    beats: int = 4
    unit: int = 4


@dataclass(frozen=True)
class Grid:
    """The tempo map: ``bpm`` quarter notes a minute and ``beats`` of a ``unit``-th note to the
    bar; bar 1 begins at ``first_downbeat_s``; ``changes`` by rising bar, each holding until the
    next. Times in seconds; places in bars (1-based, with their fraction) or in *quarters*, quarter
    notes since the beginning of bar 1."""

    bpm: float
    beats: int = 4
    unit: int = 4
    first_downbeat_s: float = 0.0
    changes: tuple[Change, ...] = ()

    @once
    def _legs(self) -> "_Legs":
        """Where each constant stretch of the map begins, in bars, quarters and seconds."""
        parts = [Change(1, self.bpm, self.beats, self.unit)]
        for change in self.changes:
            if change.bar <= parts[-1].bar:
                parts.pop()
            parts.append(change)
        bars = np.array([c.bar for c in parts], np.float64)
        per_bar = np.array([c.beats * 4 / c.unit for c in parts])
        per_quarter_s = np.array([60.0 / c.bpm for c in parts])
        quarters = np.concatenate([[0.0], np.cumsum(np.diff(bars) * per_bar[:-1])])
        lengths_s = np.diff(quarters) * per_quarter_s[:-1]
        seconds = self.first_downbeat_s + np.concatenate([[0.0], np.cumsum(lengths_s)])
        return _Legs(bars, quarters, seconds, per_bar, per_quarter_s, parts)

    @property
    def beat_s(self) -> float:
        """Length of a beat where the song begins."""
        return 60.0 / self.bpm * 4 / self.unit

    @property
    def bar_s(self) -> float:
        """Length of a bar where the song begins."""
        return self.beat_s * self.beats

    def seconds_of(self, quarters: NDArray[np.float64]) -> NDArray[np.float64]:
        """Times in s ``(n,)`` of places ``(n,)`` in quarter notes since bar 1."""
        m = self._legs
        at = np.maximum(np.searchsorted(m.quarters, quarters, "right") - 1, 0)
        return m.seconds[at] + (quarters - m.quarters[at]) * m.per_quarter_s[at]

    def quarters_at(self, seconds: NDArray[np.float64]) -> NDArray[np.float64]:
        """Places ``(n,)`` of times ``(n,)`` in s, in quarter notes since bar 1; before it the first tempo is
        taken on."""
        m = self._legs
        at = np.maximum(np.searchsorted(m.seconds, seconds, "right") - 1, 0)
        return m.quarters[at] + (seconds - m.seconds[at]) / m.per_quarter_s[at]

    def quarters_of_bars(self, bars: NDArray[np.float64]) -> NDArray[np.float64]:
        """Quarter notes from bar 1 to bars ``(n,)`` (1-based, fractions allowed)."""
        m = self._legs
        at = np.maximum(np.searchsorted(m.bars, bars, "right") - 1, 0)
        return m.quarters[at] + (bars - m.bars[at]) * m.per_bar[at]

    def quarters_of_bar(self, bar: float) -> float:
        """`quarters_of_bars` of one."""
        return float(self.quarters_of_bars(np.array([bar]))[0])

    def bar_starts_s(self, bars: NDArray[np.float64]) -> NDArray[np.float64]:
        """Seconds at which bars ``(n,)`` (1-based, fractions allowed) begin."""
        return self.seconds_of(self.quarters_of_bars(bars))

    def bar_start_s(self, bar: float) -> float:
        """`bar_starts_s` of one."""
        return float(self.bar_starts_s(np.array([bar]))[0])

    def bars_at(self, seconds: NDArray[np.float64]) -> NDArray[np.float64]:
        """Bars ``(n,)`` (1-based, with their fraction) at times ``(n,)`` in s."""
        m = self._legs
        quarters = self.quarters_at(seconds)
        at = np.maximum(np.searchsorted(m.quarters, quarters, "right") - 1, 0)
        return m.bars[at] + (quarters - m.quarters[at]) / m.per_bar[at]

    def bar_at(self, seconds: float) -> float:
        """`bars_at` of one."""
        return float(self.bars_at(np.array([seconds]))[0])

    def meter_at(self, bar: float) -> tuple[int, int]:
        """``(beats, unit)`` of a bar."""
        part = self._legs.part_at(bar)
        return part.beats, part.unit

    def bpm_at(self, bar: float) -> float:
        return self._legs.part_at(bar).bpm

    def place(self, seconds: float) -> str:
        """``8.2.31``: bar, beat, hundredths of a beat."""
        at = self.bar_at(max(seconds, self.first_downbeat_s))
        # A time that was rounded to the microsecond still lies in the bar that it begins.
        bar = int(at + 1e-6)
        hundredths = int(max(at - bar, 0.0) * self.meter_at(bar)[0] * 100 + 1e-3)
        return f"{bar}.{hundredths // 100 + 1}.{hundredths % 100:02d}"

    def bars_in(self, seconds: float) -> int:
        """Number of whole or begun bars until ``seconds``."""
        return max(1, int(np.ceil(self.bar_at(seconds) - 1 - 1e-6)))

    def frames_of_bars(self, first: int, last: int, rate: int) -> tuple[int, int]:
        """Sample span of bars ``first`` to ``last``, both included; empty where they lie before
        the song's first sample."""
        start = max(round(self.bar_start_s(first) * rate), 0)
        return start, max(round(self.bar_start_s(last + 1) * rate), start)


@dataclass(frozen=True)
class _Legs:
    bars: NDArray[np.float64]
    quarters: NDArray[np.float64]
    seconds: NDArray[np.float64]
    per_bar: NDArray[np.float64]
    per_quarter_s: NDArray[np.float64]
    parts: list[Change]

    def part_at(self, bar: float) -> Change:
        return self.parts[max(int(np.searchsorted(self.bars, bar, "right")) - 1, 0)]


def parse_meter(text: str) -> tuple[int, int]:
    """``(4, 4)`` of ``4/4``; raises `ValueError` with a sentence otherwise."""
    try:
        beats, unit = (int(part) for part in text.split("/"))
    except ValueError:
        raise ValueError(f"“{text}” is not a meter such as 4/4 or 6/8.") from None
    if not 1 <= beats <= 32 or unit not in (2, 4, 8, 16):
        raise ValueError(f"“{text}” is not a meter such as 4/4 or 6/8.")
    return beats, unit


TEMPOS_AT_ONCE = 512
"""So many are tried at once: all of a long song's would not fit into memory."""


def estimate_tempo(
    onsets_s: NDArray[np.float64], weights: NDArray[np.float64], low: float = 60, high: float = 200
) -> tuple[float, float, float] | None:
    """``(bpm, first beat in s, confidence)`` of a constant tempo; None with under eight hits.

    The tempo at which the hits, weighted, agree most in phase on eighths (the circular mean of
    their places), preferring the middle of the range as listeners do; then least squares on the
    nearest grid lines. The first beat is where kicks should fall: pass the kick's hits heavier.
    """
    if len(onsets_s) < 8:
        return None
    times = onsets_s - onsets_s[0]

    def agreement(bpm: NDArray[np.float64], per_beat: int) -> NDArray[np.float64]:
        out = np.empty(len(bpm))
        for at in range(0, len(bpm), TEMPOS_AT_ONCE):
            some = slice(at, at + TEMPOS_AT_ONCE)
            phase = np.exp(2j * np.pi * np.outer(bpm[some] / 60 * per_beat, times))
            out[some] = np.abs(phase @ weights)
        return out / weights.sum()

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


RELATED = (0.5, 2 / 3, 1.5, 2.0)
"""Tempos at which the same hits fit a grid as well."""

LEAST_ACCENTS = 8
SHORTEST_SPACING_S, LONGEST_SPACING_S = 0.2, 4.5
SAME_SPACING_S = 0.04
ROLLED_S, ROLLED_DB = 0.12, 6.0
SAME_RATIO = 0.08


def tempo_by_backbeat(
    bpm: float,
    snares_s: NDArray[np.float64],
    levels_db: NDArray[np.float64],
    low: float = 60,
    high: float = 220,
) -> float:
    """Which of the tempos related to ``bpm`` is meant: that at which the snare's accents lie two
    beats apart, as backbeats do. A slow song is else read at twice its tempo, a shuffle at one and
    a half times. ``snares_s`` are all hits of the snare by rising time, ``levels_db`` how loud
    each is; where accents tell no such spacing ``bpm`` stands. So it does where the tempo would be
    under ``low``: one accent a bar is half time more often than a song that slow."""
    spacing_s = _spacing_of_accents_s(snares_s, levels_db)
    if spacing_s is None:
        return bpm
    wanted = 2 / (spacing_s * bpm / 60)
    meant = (r for r in RELATED if abs(r / wanted - 1) < SAME_RATIO and low <= bpm * r <= high)
    return bpm * next(meant, 1.0)


def _spacing_of_accents_s(
    times_s: NDArray[np.float64], levels_db: NDArray[np.float64]
) -> float | None:
    """The shortest time after which loud hits come again about as often as they ever do, by
    autocorrelation of their energy. Over a few bars only: a song that drifts keeps its spacing.
    None under the energy of eight loud hits; hits of a roll are no accents."""
    rolled = np.zeros(len(times_s), bool)
    quick = (np.diff(times_s) < ROLLED_S) & (np.abs(np.diff(levels_db)) < ROLLED_DB)
    rolled[1:] |= quick
    rolled[:-1] |= quick
    times_s, levels_db = times_s[~rolled], levels_db[~rolled]
    energy = 10 ** (np.minimum(levels_db, 0.0) / 10)
    if energy.sum() < LEAST_ACCENTS:
        return None
    lags, together = [], []
    for step in range(1, len(times_s)):
        lag = times_s[step:] - times_s[:-step]
        near = lag < LONGEST_SPACING_S
        if not near.any():
            break
        lags.append(lag[near])
        together.append((energy[step:] * energy[:-step])[near])
    if not lags:
        return None
    lag, weight = np.concatenate(lags), np.concatenate(together)
    spacings = np.arange(SHORTEST_SPACING_S, LONGEST_SPACING_S, SAME_SPACING_S / 2)
    again = np.array([weight[np.abs(lag - s) < SAME_SPACING_S].sum() for s in spacings])
    if again.max() < LEAST_ACCENTS / 2:
        return None
    often = np.flatnonzero(again > again.max() / 2)
    # The first run of spacings that come often: its middle by weight is the spacing.
    run = often[: 1 + int(np.argmax(np.append(np.diff(often) > 1, True)))]
    return float(np.average(spacings[run], weights=again[run]))
