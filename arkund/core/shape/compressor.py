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
from numpy.typing import NDArray

from arkund.core.kernel import kernel


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
    """Reduction in dB ``(n,)`` (0 or more) that steady ``level_db`` ``(n,)`` dBFS receives."""
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
    hears, for a stereo signal the larger magnitude of both sides (`sides.louder_side`). The trace holds
    the largest reduction of each `TRACE_STEP` samples.
    """
    attack = 1 - math.exp(-1000 / (max(s.attack_ms, 1e-3) * rate))
    release = 1 - math.exp(-1000 / (max(s.release_ms, 1e-3) * rate))
    trace = np.zeros(-(-len(key) // TRACE_STEP), np.float32)
    out = np.empty_like(audio)
    arguments = (
        np.ascontiguousarray(key),
        s.threshold_db,
        1 - 1 / s.ratio,
        s.knee_db,
        attack,
        release,
        10 ** (s.makeup_db / 20),
        s.mix,
        state,
        trace,
    )
    sides = audio if audio.ndim == 2 else audio[:, None]
    _compress(sides, out if out.ndim == 2 else out[:, None], *arguments)
    return out, trace


def reductions(
    key: NDArray[np.float32], s: Settings, rate: int, state: NDArray[np.float64]
) -> NDArray[np.float32]:
    """The reduction in dB ``(frames,)`` that a detector which hears ``key`` ``(frames,)`` gives, sample by
    sample; makeup and mix do not matter. ``state`` is carried on."""
    attack = 1 - math.exp(-1000 / (max(s.attack_ms, 1e-3) * rate))
    release = 1 - math.exp(-1000 / (max(s.release_ms, 1e-3) * rate))
    out = np.empty(len(key), np.float32)
    curve = np.float32(s.threshold_db), np.float32(1 - 1 / s.ratio), np.float32(s.knee_db)
    _wanted(np.ascontiguousarray(key), *curve, out)
    _smoothed(out, attack, release, state, np.empty(-(-len(key) // TRACE_STEP), np.float32))
    return out


BLOCK = 4 * TRACE_STEP
"""Samples at a time: what depends on the sample before is kept apart from what does not, so that the
latter is computed several samples at once."""


@kernel(fastmath=True, error_model="numpy")
def _compress(  # type: ignore[no-untyped-def]
    audio, out, key, threshold, slope, knee, attack, release, makeup, mix, state, trace
):
    reductions, factors = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    for start in range(0, len(key), BLOCK):
        n = min(BLOCK, len(key) - start)
        _wanted(
            key[start : start + n],
            np.float32(threshold),
            np.float32(slope),
            np.float32(knee),
            reductions,
        )
        _smoothed(reductions[:n], attack, release, state, trace[start // 64 :])
        _factors(reductions[:n], np.float32(mix * makeup), np.float32(1.0 - mix), factors)
        for side in range(audio.shape[1]):
            _multiply(audio[start : start + n, side], factors, out[start : start + n, side])


@kernel(fastmath=True, error_model="numpy")
def _wanted(key, threshold, slope, knee, wanted):  # type: ignore[no-untyped-def]
    """The reduction in dB that the static curve asks for, sample by sample."""
    half, zero = np.float32(0.5) * knee, np.float32(0.0)
    bend = slope / max(np.float32(2.0) * knee, np.float32(1e-9))
    one = np.float32(1.0)
    for n in range(len(key)):
        # 20 log10 by the exponent's bits and a polynomial of the mantissa, to 1e-4 dB.
        bits = np.float32(abs(key[n])).view(np.int32)
        exponent = np.float32((bits >> 23) - 127)
        mantissa = np.int32((bits & 0x7FFFFF) | 0x3F800000).view(np.float32)
        t = (mantissa - one) / (mantissa + one)
        t2 = t * t
        series = one + t2 * (
            np.float32(1 / 3)
            + t2
            * (
                np.float32(1 / 5)
                + t2 * (np.float32(1 / 7) + t2 * (np.float32(1 / 9) + t2 * np.float32(1 / 11)))
            )
        )
        level = np.float32(6.0205999132796) * exponent + np.float32(17.371779276130) * t * series
        over = level - threshold
        bent = bend * (over + half) * (over + half)
        wanted[n] = slope * over if over >= half else (bent if over > -half else zero)


@kernel(fastmath=True, error_model="numpy")
def _smoothed(reductions, attack, release, state, trace):  # type: ignore[no-untyped-def]
    """What is wanted becomes what is given, in place; the largest of each 64 goes to the trace."""
    reduction = state[0]
    for p in range(-(-len(reductions) // 64)):
        most = reduction
        for n in range(p * 64, min(p * 64 + 64, len(reductions))):
            wanted = np.float64(reductions[n])
            reduction += (attack if wanted > reduction else release) * (wanted - reduction)
            reduction = reduction if reduction > 1e-6 else 0.0
            most = max(most, reduction)
            reductions[n] = reduction
        trace[p] = most
    state[0] = reduction


@kernel(fastmath=True, error_model="numpy")
def _factors(reductions, wet, dry, factors):  # type: ignore[no-untyped-def]
    """Amplitudes of reductions in dB: two to the whole part by its bits, the rest by a polynomial."""
    for n in range(len(reductions)):
        power = reductions[n] * np.float32(-0.16609640474436813)
        whole = np.floor(power)
        f = (power - whole) * np.float32(0.6931471805599453)
        part = np.float32(1.0) + f * (
            np.float32(1.0)
            + f
            * (
                np.float32(1 / 2)
                + f
                * (
                    np.float32(1 / 6)
                    + f * (np.float32(1 / 24) + f * (np.float32(1 / 120) + f * np.float32(1 / 720)))
                )
            )
        )
        factors[n] = dry + wet * part * np.int32((np.int32(whole) + 127) << 23).view(np.float32)


@kernel(fastmath=True, error_model="numpy")
def _multiply(sound, factors, out):  # type: ignore[no-untyped-def]
    for n in range(len(sound)):
        out[n] = sound[n] * factors[n]
