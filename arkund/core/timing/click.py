"""A recorded click: its ticks, the tempo map they make, and whether it was played to."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Change, Grid

HOP_S = 0.002
CLEAR_DB = 20.0
"""A tick stands so far above what lies between ticks."""

LEAST_TICKS = 8
STEADY_S = 0.0015
"""Ticks whose distances differ by less come from a machine at one tempo."""

ACCENT_DB = 1.5
PLAYED_TO_S = 0.030
PLAYED_SHARE = 0.8
"""Share of hits that fall within 30 ms of the click's sixteenths when it is played to. At
120 BPM about half would by chance."""


@dataclass(frozen=True)
class Click:
    """The click's map, how many ticks it rests on, the share of hits near its sixteenths and
    their median distance from them in ms."""

    grid: Grid
    ticks: int
    share: float
    away_ms: float

    @property
    def played_to(self) -> bool:
        return self.share >= PLAYED_SHARE


def tick_times(audio: NDArray[np.float32], rate: int) -> NDArray[np.float64]:
    """Seconds at which each tick of a click track ``(frames,)`` begins; empty where nothing
    stands out regularly."""
    hop = max(round(HOP_S * rate), 1)
    count = len(audio) // hop
    if count < 100:
        return np.zeros(0)
    level = np.abs(audio[: count * hop]).reshape(count, hop).max(axis=1).astype(np.float64)
    loud = float(np.percentile(level, 99.5))
    floor = max(float(np.median(level)), 1e-6)
    if loud < floor * 10 ** (CLEAR_DB / 20):
        return np.zeros(0)
    rising = level > loud * 0.1
    before = scipy.ndimage.maximum_filter1d(np.concatenate([np.zeros(12), level])[:count], 11)
    starts = np.flatnonzero(rising & (level > 4 * before))
    kept: list[int] = []
    for at in starts:
        if not kept or at - kept[-1] > round(0.08 / HOP_S):
            kept.append(int(at))
    reach = round(0.0014 * rate)
    return np.array(
        [first_arrival(audio, max((k - 1) * hop, 0), (k + 2) * hop, reach) / rate for k in kept]
    )


def click_of(
    audio: NDArray[np.float32], rate: int, hits: Sequence[Hit], beats: int, unit: int
) -> Click | None:
    """The click of a take in ``audio`` ``(frames,)`` and how it was played to; None where no click can be made out.

    One tick a beat is assumed; the loudest of every ``beats`` begins the bar, without accents the
    first kick does. A click that changes its tempo is followed bar by bar.
    """
    ticks = tick_times(audio, rate)
    if len(ticks) < LEAST_TICKS:
        return None
    gaps = np.diff(ticks)
    usual = float(np.median(gaps))
    if np.mean(np.abs(gaps - usual) < 0.2 * usual) < PLAYED_SHARE:
        return None
    ticks = _filled(ticks, usual)
    first = _first_of_bar(ticks, audio, rate, hits, beats)
    per_beat = 4 / unit
    if float(np.std(np.diff(ticks))) < STEADY_S:
        number = np.arange(len(ticks))
        beat_s, start = np.polyfit(number, ticks, 1)
        grid = Grid(
            round(60 / beat_s * per_beat, 3), beats, unit, round(float(start + first * beat_s), 5)
        )
    else:
        lines = ticks[first::beats]
        bpms = np.round(60 * beats * per_beat / np.diff(lines), 3)
        changes = tuple(
            Change(n, float(bpm), beats, unit)
            for n, (bpm, old) in enumerate(zip(bpms[1:], bpms[:-1], strict=True), start=2)
            if bpm != old
        )
        grid = Grid(float(bpms[0]), beats, unit, round(float(lines[0]), 5), changes)
    away = _away_s(grid, hits, beats, unit)
    share = float(np.mean(away < PLAYED_TO_S)) if len(away) else 0.0
    return Click(grid, len(ticks), share, float(np.median(away) * 1000) if len(away) else 0.0)


def _filled(ticks: NDArray[np.float64], usual: float) -> NDArray[np.float64]:
    """Ticks that dropped out put back evenly between their neighbours."""
    out = [ticks[0]]
    for tick in ticks[1:]:
        missing = max(round((tick - out[-1]) / usual), 1)
        out.extend(np.linspace(out[-1], tick, missing + 1)[1:])
    return np.array(out)


def _first_of_bar(
    ticks: NDArray[np.float64],
    audio: NDArray[np.float32],
    rate: int,
    hits: Sequence[Hit],
    beats: int,
) -> int:
    """Number of the tick that begins bar 1."""
    reach = round(0.02 * rate)
    peaks = np.array(
        [np.abs(audio[(a := round(t * rate)) : a + reach]).max(initial=1e-9) for t in ticks]
    )
    level_db = 20 * np.log10(peaks)
    by_place = np.array([np.median(level_db[n::beats]) for n in range(beats)])
    accented = float(np.sort(by_place)[-1] - np.sort(by_place)[-2]) if beats > 1 else 0.0
    kick = next((h.time_s for h in hits if h.piece == "kick"), ticks[0])
    nearest = int(np.argmin(np.abs(ticks - kick)))
    if accented < ACCENT_DB:
        return nearest
    place = int(np.argmax(by_place))
    # The bar in which the first kick falls is bar 1; what ticks before it counts in.
    return max(nearest - (nearest - place) % beats, place)


def _away_s(grid: Grid, hits: Sequence[Hit], beats: int, unit: int) -> NDArray[np.float64]:
    """Each shell hit's distance from the nearest sixteenth, in seconds."""
    times = np.array([h.time_s for h in hits if h.kind != "ghost"])
    if len(times) == 0:
        return times
    quarters = grid.quarters_at(times)
    lines = grid.seconds_of(np.rint(quarters * 4) / 4)
    return np.asarray(np.abs(times - lines))
