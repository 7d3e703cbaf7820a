"""What is measured of each mic when it comes in."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.audio.samples import Samples, in_parts
from arkund.core.kernel import kernel
from arkund.core.measure.hum import Hum, find_hum
from arkund.core.measure.loudness import Loudness, TruePeak
from arkund.core.units import SILENCE_DB, amplitude_to_db, amplitudes_to_db, power_to_db

CLIP_LEVEL = 0.9995
"""Magnitude from which a sample counts as at full scale."""

LEAST_DC = 0.002
"""An offset from here on (−54 dBFS) is worth a word."""


@dataclass(frozen=True)
class MicMeasures:
    """Levels of one mic in dBFS, places in seconds; ``clipped_runs`` are (start, samples);
    ``hum_hz`` 50, 60 or 0."""

    peak_dbfs: float
    peak_at_s: float
    true_peak_dbtp: float
    typical_hit_dbfs: float
    loudest_hit_dbfs: float
    rms_dbfs: float
    loudness_lufs: float
    crest_db: float
    noise_floor_dbfs: float
    dc: float
    hum_hz: float
    hum_dbfs: float
    hum_contrast_db: float
    clipped_runs: list[tuple[float, int]]
    flags: list[str]

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


_SILENT = MicMeasures(
    peak_dbfs=SILENCE_DB,
    peak_at_s=0.0,
    true_peak_dbtp=SILENCE_DB,
    typical_hit_dbfs=SILENCE_DB,
    loudest_hit_dbfs=SILENCE_DB,
    rms_dbfs=SILENCE_DB,
    loudness_lufs=SILENCE_DB,
    crest_db=0.0,
    noise_floor_dbfs=SILENCE_DB,
    dc=0.0,
    hum_hz=0.0,
    hum_dbfs=SILENCE_DB,
    hum_contrast_db=0.0,
    clipped_runs=[],
    flags=["silent"],
)


@dataclass(frozen=True)
class MicSound:
    """What is measured of a mic whatever is struck: amplitude and place in samples of its peak, mean
    power and offset, and the figures of `MicMeasures` that rest on no hit."""

    peak: float
    peak_at: int
    power: float
    dc: float
    true_peak_dbtp: float
    loudness_lufs: float
    noise_floor_dbfs: float
    hum: Hum
    clipped_runs: list[tuple[float, int]]


def measure_sound(audio: Samples, rate: int) -> MicSound | None:
    """Of a mono signal ``(frames,)`` what needs no hits; None of silence. Sound of hours is read part by
    part (`in_parts`), so that memory holds a part or two."""
    step = _step(rate)
    loudness, between = Loudness(rate, 1), TruePeak()
    peak, peak_at, at = 0.0, 0, 0
    squares, totals = [], []
    runs: list[tuple[int, int]] = []
    for part in in_parts(audio, step):
        magnitude = np.abs(part)
        loudest = int(np.argmax(magnitude))
        if magnitude[loudest] > peak:
            peak, peak_at = float(magnitude[loudest]), at + loudest
        loudness.feed(part)
        between.feed(part)
        of_squares, of_samples = _summed(part, step)
        is_last = at + len(part) == len(audio)
        squares.append(of_squares if is_last else of_squares[:-1])
        totals.append(of_samples if is_last else of_samples[:-1])
        runs += [(at + a, at + b) for a, b in _full_scale(magnitude)]
        at += len(part)
    if peak == 0.0:
        return None
    sums = np.concatenate(squares)
    return MicSound(
        peak,
        peak_at,
        float(sums.sum()) / len(audio),
        _standing_offset(sums, np.concatenate(totals), step),
        amplitude_to_db(between.amplitude()),
        loudness.lufs(),
        _floor_dbfs(sums, step),
        find_hum(audio, rate),
        _clipped(runs, rate),
    )


def measure_mic(
    audio: Samples,
    rate: int,
    onsets_s: Sequence[float] = (),
    sound: MicSound | None = None,
) -> MicMeasures:
    """Measures of a mono signal ``(frames,)``.

    ``onsets_s`` are the hits of the piece the mic is close to; without them the typical hit is
    taken of the loudest moments, 50 ms each. ``sound`` is what `measure_sound` gives, where that is
    known.
    """
    sound = sound or measure_sound(audio, rate)
    if sound is None:
        return _SILENT
    peak, hum = sound.peak, sound.hum
    peaks = hit_peaks(audio, rate, onsets_s) if len(onsets_s) else _loud_moments(audio, rate)
    typical = amplitude_to_db(float(np.percentile(peaks, 95)) if len(peaks) else peak)
    if len(peaks) >= 4:
        typical = amplitude_to_db(float(np.median(np.sort(peaks)[len(peaks) // 2 :])))
    flags = []
    if sound.clipped_runs:
        flags.append("clipped")
    if abs(sound.dc) > LEAST_DC:
        flags.append("dc")
    if hum.hz:
        flags.append("hum")
    if amplitude_to_db(peak) > -4.0:
        flags.append("hot")
    if peak < 0.003:
        flags.append("near silence")
    loudest = amplitude_to_db(float(peaks.max()) if len(peaks) else peak)
    if len(onsets_s) >= 4 and loudest - typical > 6.0:
        flags.append("wild")
    return MicMeasures(
        peak_dbfs=round(amplitude_to_db(peak), 2),
        peak_at_s=round(sound.peak_at / rate, 4),
        true_peak_dbtp=round(sound.true_peak_dbtp, 2),
        typical_hit_dbfs=round(typical, 2),
        loudest_hit_dbfs=round(loudest, 2),
        rms_dbfs=round(power_to_db(sound.power), 2),
        loudness_lufs=round(sound.loudness_lufs, 2),
        crest_db=round(amplitude_to_db(peak) - power_to_db(sound.power), 2),
        noise_floor_dbfs=round(sound.noise_floor_dbfs, 1),
        dc=round(sound.dc, 6),
        hum_hz=hum.hz,
        hum_dbfs=hum.level_dbfs,
        hum_contrast_db=hum.contrast_db,
        clipped_runs=sound.clipped_runs,
        flags=flags,
    )


def hit_peaks(audio: Samples, rate: int, onsets_s: Sequence[float]) -> NDArray[np.float64]:
    """Largest magnitude ``(hits,)`` of ``audio`` ``(frames,)`` within 40 ms of each hit."""
    reach = round(0.04 * rate)
    starts = np.clip(np.rint(np.asarray(onsets_s) * rate).astype(int) - 8, 0, len(audio))
    return np.array([np.abs(audio[s : s + reach]).max(initial=0.0) for s in starts], np.float64)


def peaks_over_time_db(
    sound: NDArray[np.float32], rate: int, step_s: float = 0.05
) -> NDArray[np.float64]:
    """Peak in dBFS of each ``step_s`` of ``(frames, channels)``, the larger side; the last step may
    be shorter."""
    step = max(round(step_s * rate), 1)
    largest = np.abs(sound).max(axis=1, initial=0.0)
    starts = np.arange(0, len(largest), step)
    return amplitudes_to_db(np.maximum.reduceat(largest, starts)) if len(starts) else np.zeros(0)


def attack_to_body_db(audio: NDArray[np.float32], rate: int, onsets_s: Sequence[float]) -> float:
    """RMS of the first 10 ms over RMS of 20 to 100 ms of a hit in dB, median over hits;
    0 without hits. ``audio`` is ``(frames,)`` or ``(frames, 2)``."""
    ratios = []
    for onset in onsets_s:
        at = round(onset * rate)
        head, body = audio[at : at + rate // 100], audio[at + rate // 50 : at + rate // 10]
        if len(head) and len(body):
            power = [float(np.mean(np.square(part, dtype=np.float64))) for part in (head, body)]
            ratios.append(power_to_db(power[0] + 1e-18) - power_to_db(power[1] + 1e-18))
    return float(np.median(ratios)) if ratios else 0.0


def _loud_moments(audio: Samples, rate: int) -> NDArray[np.float64]:
    """The largest magnitudes of the loudest eighth of all stretches of 50 ms, rising."""
    step = max(round(0.05 * rate), 1)
    if len(audio) < step:
        return np.abs(audio[:]).astype(np.float64)
    whole = [np.abs(part[: len(part) // step * step]) for part in in_parts(audio, step)]
    moments = np.concatenate([part.reshape(-1, step).max(axis=1) for part in whole])
    return np.sort(moments)[-max(len(moments) // 8, 1) :].astype(np.float64)


def noise_floor_dbfs(audio: NDArray[np.float32], rate: int) -> float:
    """RMS of the quietest twentieth of all 20 ms stretches of ``audio`` ``(frames,)``, in dBFS."""
    return _floor_dbfs(_summed(audio, _step(rate))[0], _step(rate))


def _step(rate: int) -> int:
    return max(round(0.02 * rate), 1)


def _floor_dbfs(sums: NDArray[np.float64], step: int) -> float:
    whole = sums[:-1] / step
    return power_to_db(float(np.percentile(whole, 5))) if len(whole) else SILENCE_DB


TOGETHER = 5
"""So many steps, a tenth of a second, hold whole periods of mains hum at 50 and at 60 Hz."""

QUIET_SHARE = 0.2
"""Offset is what the quietest fifth has: the mean of hits that swing more to one side is none."""


def _standing_offset(sums: NDArray[np.float64], totals: NDArray[np.float64], step: int) -> float:
    """The median of the means of the quietest tenths of a second; of less sound its mean."""
    count = (len(sums) - 1) // TOGETHER
    if count < 1:
        return float(totals[:-1].mean() / step) if len(totals) > 1 else 0.0
    shape = (count, TOGETHER)
    mean = totals[: count * TOGETHER].reshape(shape).sum(axis=1) / (TOGETHER * step)
    power = sums[: count * TOGETHER].reshape(shape).sum(axis=1) / (TOGETHER * step)
    quietest = np.argsort(power - mean**2, kind="stable")[: max(round(QUIET_SHARE * count), 1)]
    return float(np.median(mean[quietest]))


def _summed(
    audio: NDArray[np.float32], step: int
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """The sum of squares and the sum of samples of each ``step`` samples; the last entry is what remains."""
    squares, totals = np.zeros(len(audio) // step + 1), np.zeros(len(audio) // step + 1)
    _add_up(np.ascontiguousarray(audio), step, squares, totals)
    return squares, totals


@kernel(fastmath={"reassoc", "contract"})
def _add_up(x, step, squares, totals):  # type: ignore[no-untyped-def]
    for number in range(len(squares)):
        part, square, total = x[number * step : (number + 1) * step], 0.0, 0.0
        for n in range(len(part)):
            one = np.float64(part[n])
            total += one
            square += one * one
        squares[number], totals[number] = square, total


def clipped_runs(magnitude: NDArray[np.float32], rate: int) -> list[tuple[float, int]]:
    """Runs of two or more neighbouring samples at full scale, as (start in s, samples)."""
    return _clipped(_full_scale(magnitude), rate)


def _full_scale(magnitude: NDArray[np.float32]) -> list[tuple[int, int]]:
    """Where samples are at full scale, as (first, behind the last)."""
    if magnitude.max(initial=0.0) < CLIP_LEVEL:
        return []
    at = magnitude >= CLIP_LEVEL
    edges = np.flatnonzero(np.diff(np.concatenate([[False], at, [False]]).astype(np.int8)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _clipped(runs: Sequence[tuple[int, int]], rate: int) -> list[tuple[float, int]]:
    """Runs at full scale: neighbours joined, single samples dropped."""
    joined: list[list[int]] = []
    for start, stop in runs:
        if joined and joined[-1][1] == start:
            joined[-1][1] = stop
        else:
            joined.append([start, stop])
    return [(round(a / rate, 5), b - a) for a, b in joined if b - a > 1]
