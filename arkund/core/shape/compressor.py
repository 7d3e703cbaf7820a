"""The *straight* compressor: feed-forward, reduction smoothed in dB.

Level is the sample's magnitude in dB; above the threshold the static curve asks for reduction
(soft knee after Giannoulis, Massberg and Reiss, 2012, eq. 4), which the attack and release follow
as one-pole smoothers of the reduction itself, so both times are the time to 63 % of the change
whatever the level. On a steady sine the magnitude swings, so the reduction settles below the
static curve's; on a square wave it meets it.
"""

import math
from dataclasses import dataclass

import numpy as np
from numba import njit
from numpy.typing import NDArray


@dataclass(frozen=True)
class Settings:
    """Threshold in dBFS peak, ratio 1 to 100, knee width in dB, attack and release in ms to 63 %,
    makeup in dB, mix 0 to 1."""

    threshold_db: float
    ratio: float
    knee_db: float
    attack_ms: float
    release_ms: float
    makeup_db: float = 0.0
    mix: float = 1.0

    @property
    def is_transparent(self) -> bool:
        """Whether the samples pass untouched."""
        return self.mix == 0.0 or (self.ratio == 1.0 and self.makeup_db == 0.0)


def static_reduction_db(level_db: NDArray[np.float64], s: Settings) -> NDArray[np.float64]:
    """Reduction in dB (0 or more) that steady ``level_db`` dBFS receives."""
    slope = 1 - 1 / s.ratio
    over = np.asarray(level_db, np.float64) - s.threshold_db
    if s.knee_db <= 0:
        return slope * np.maximum(over, 0)
    bent = slope * (over + s.knee_db / 2) ** 2 / (2 * s.knee_db)
    return np.where(
        over <= -s.knee_db / 2, 0.0, np.where(over >= s.knee_db / 2, slope * over, bent)
    )


TRACE_STEP = 64
"""Samples per point of the reduction trace."""


def memory(s: Settings, rate: int, floor_db: float = 1e-4) -> int:
    """Samples after which reduction of 60 dB has fallen below ``floor_db``."""
    slowest = max(s.attack_ms, s.release_ms) / 1000 * rate
    return math.ceil(slowest * math.log(60 / floor_db)) + 1


def new_state() -> NDArray[np.float64]:
    """State at rest: the reduction in dB."""
    return np.zeros(1)


def run(
    audio: NDArray[np.float32],
    key: NDArray[np.float32],
    s: Settings,
    rate: int,
    state: NDArray[np.float64],
) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Compressed ``audio`` and the reduction trace in dB.

    ``audio`` is ``(frames,)`` or ``(frames, 2)``; ``key`` ``(frames,)`` is what the detector
    hears, for a stereo signal the larger magnitude of both sides (`linked_key`). The trace holds
    the largest reduction of each `TRACE_STEP` samples.
    """
    attack = 1 - math.exp(-1000 / (max(s.attack_ms, 1e-3) * rate))
    release = 1 - math.exp(-1000 / (max(s.release_ms, 1e-3) * rate))
    trace = np.zeros(-(-len(key) // TRACE_STEP), np.float32)
    out = np.empty_like(audio)
    arguments = (
        np.ascontiguousarray(key), s.threshold_db, 1 - 1 / s.ratio, s.knee_db, attack, release,
        10 ** (s.makeup_db / 20), s.mix, state, trace,
    )  # fmt: skip
    if audio.ndim == 1:
        _compress_mono(audio, out, *arguments)
    else:
        _compress_stereo(audio, out, *arguments)
    return out, trace


def linked_key(audio: NDArray[np.float32]) -> NDArray[np.float32]:
    """What the detector of a stereo compressor hears: the larger magnitude of both sides."""
    return audio if audio.ndim == 1 else np.maximum(np.abs(audio[:, 0]), np.abs(audio[:, 1]))


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _decibels(power):  # type: ignore[no-untyped-def]
    """10 log10 of a float32 power, by its exponent and a polynomial of its mantissa (1e-4 dB)."""
    bits = np.float32(power).view(np.int32)
    exponent = (bits >> 23) - 127
    mantissa = np.int32((bits & 0x7FFFFF) | 0x3F800000).view(np.float32)
    t = (mantissa - 1.0) / (mantissa + 1.0)
    t2 = t * t
    # ln m = 2 artanh t; the series to t^9 is good to 1e-6 over [1, 2).
    ln = 2.0 * t * (1.0 + t2 * (1 / 3 + t2 * (1 / 5 + t2 * (1 / 7 + t2 * (1 / 9 + t2 / 11)))))
    return 3.0102999566398 * exponent + 4.3429448190325 * ln


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _gain(reduction_db):  # type: ignore[no-untyped-def]
    """10^(-dB/20): two to the whole part by its exponent bits, the rest by a polynomial."""
    x = -0.16609640474436813 * reduction_db
    whole = np.floor(x)
    f = (x - whole) * 0.6931471805599453
    part = 1.0 + f * (1.0 + f * (0.5 + f * (1 / 6 + f * (1 / 24 + f * (1 / 120 + f / 720)))))
    power = np.int32((np.int32(whole) + 127) << 23).view(np.float32)
    return part * power


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy", inline="always")
def _follow(x, knee_power, threshold, slope, knee, attack, release, reduction):  # type: ignore[no-untyped-def]
    """The reduction one sample on; stays in linear power where the threshold is not reached."""
    power = x * x
    if power <= knee_power:
        return reduction - release * reduction
    over = _decibels(power) - threshold
    half = 0.5 * knee
    wanted = slope * over if over >= half else slope * (over + half) * (over + half) / (2.0 * knee)
    if wanted > reduction:
        return reduction + attack * (wanted - reduction)
    return reduction + release * (wanted - reduction)


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _compress_mono(  # type: ignore[no-untyped-def]
    audio, out, key, threshold, slope, knee, attack, release, makeup, mix, state, trace
):
    knee_power = np.float32(10.0 ** ((threshold - 0.5 * knee) / 10.0))
    reduction = state[0]
    wet, dry = mix * makeup, 1.0 - mix
    flat = np.float32(wet + dry)
    plain = flat == np.float32(1.0)
    for p in range(len(trace)):
        most = reduction
        for n in range(p * 64, min(p * 64 + 64, len(audio))):
            reduction = _follow(
                key[n], knee_power, threshold, slope, knee, attack, release, reduction
            )
            if reduction > 1e-6:
                if reduction > most:
                    most = reduction
                out[n] = audio[n] * np.float32(_gain(reduction) * wet + dry)
            else:
                reduction = 0.0
                out[n] = audio[n] if plain else audio[n] * flat
        trace[p] = most
    state[0] = reduction


@njit(cache=True, nogil=True, fastmath=True, error_model="numpy")
def _compress_stereo(  # type: ignore[no-untyped-def]
    audio, out, key, threshold, slope, knee, attack, release, makeup, mix, state, trace
):
    knee_power = np.float32(10.0 ** ((threshold - 0.5 * knee) / 10.0))
    reduction = state[0]
    wet, dry = mix * makeup, 1.0 - mix
    flat = np.float32(wet + dry)
    for p in range(len(trace)):
        most = reduction
        for n in range(p * 64, min(p * 64 + 64, len(audio))):
            reduction = _follow(
                key[n], knee_power, threshold, slope, knee, attack, release, reduction
            )
            factor = flat
            if reduction > 1e-6:
                most = max(most, reduction)
                factor = np.float32(_gain(reduction) * wet + dry)
            else:
                reduction = 0.0
            out[n, 0] = audio[n, 0] * factor
            out[n, 1] = audio[n, 1] * factor
        trace[p] = most
    state[0] = reduction
