"""Compressors, feed-forward, reduction smoothed in dB: four families of one static curve.

Level is the sample's magnitude in dB; above the threshold the static curve asks for reduction
(soft knee after Giannoulis, Massberg and Reiss, 2012, eq. 4). How that is followed is the family:

* *straight*: attack and release are one-pole smoothers of the reduction itself, so both times are the time
  to 63 % of the change whatever the level. On a steady sine the magnitude swings, so the reduction settles
  below the static curve's; on a square wave it meets it.
* *grip*: a short peak is let go in a quarter of the release, what is held down long in twice as much: the
  larger of two straight ones counts, one of which hears what lasts (`GRIP_SLOW_MS` at least).
* *ease*: hears power over `EASE_MS`, scaled so that a sine reads its peak, and lets go in two stages: half of
  the reduction with the release, half five times as slowly.
* *slam*: the more it takes off the faster it lets go: at `SLAM_DB` of reduction twice as fast, at twice that
  three times. Deep reduction follows the waves themselves, which is heard as distortion that grows with it.
"""

import math
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel

Family = Literal["straight", "grip", "ease", "slam"]
FAMILIES: tuple[Family, ...] = ("straight", "grip", "ease", "slam")

GRIP_FAST, GRIP_LONG, GRIP_SLOW_MS, GRIP_SLOW = 0.25, 2.0, 30.0, 10.0
"""*grip*: its two releases as parts of the release, and the attack of the one that hears what lasts: at least
so many ms, else so many times the attack."""

EASE_MS, EASE_LONG = 10.0, 5.0
"""*ease*: the time constant of the power that it hears, and how many times slower its second stage is."""

SLAM_DB = 3.0


@dataclass(frozen=True)
class Settings:
    """Threshold in dBFS peak, ratio 1 to 100, knee width in dB, attack and release in ms to 63 %,
    makeup in dB, mix 0 to 1, the family that follows, and whether it hears power (*ease* always does)."""

    threshold_db: float
    ratio: float
    knee_db: float
    attack_ms: float
    release_ms: float
    makeup_db: float = 0.0
    mix: float = 1.0
    family: Family = "straight"
    by_power: bool = False

    @property
    def hears_power(self) -> bool:
        """Whether it hears power over `EASE_MS`, scaled so that a sine reads its peak."""
        return self.by_power or self.family == "ease"

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
    longest = {"grip": GRIP_LONG, "ease": EASE_LONG}.get(s.family, 1.0)
    slow_ms = GRIP_SLOW * max(s.attack_ms, GRIP_SLOW_MS) if s.family == "grip" else s.attack_ms
    slowest = max(slow_ms, longest * s.release_ms) / 1000 * rate
    power = math.ceil(EASE_MS / 1000 * rate * math.log(1e12)) if s.hears_power else 0
    return math.ceil(slowest * math.log(60 / floor_db)) + 1 + power


def new_state() -> NDArray[np.float64]:
    """State at rest: the reduction in dB, a second one of *grip* and *ease*, and the power that was heard."""
    return np.zeros(3)


def _pole(ms: float, rate: int) -> float:
    """What a one-pole smoother of so many ms takes on with each sample."""
    return 1 - math.exp(-1000 / (max(ms, 1e-3) * rate))


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
    trace = np.zeros(-(-len(key) // TRACE_STEP), np.float32)
    out = np.empty_like(audio)
    arguments = (
        np.ascontiguousarray(key),
        s.threshold_db,
        1 - 1 / s.ratio,
        s.knee_db,
        FAMILIES.index(s.family),
        s.hears_power,
        _poles_of(s, rate),
        10 ** (s.makeup_db / 20),
        s.mix,
        state,
        trace,
    )
    sides = audio if audio.ndim == 2 else audio[:, None]
    _compress(sides, out if out.ndim == 2 else out[:, None], *arguments)
    return out, trace


def _poles_of(s: Settings, rate: int) -> NDArray[np.float64]:
    """What the kernel of a family needs to follow: attack and release, those of its second one, and of the
    power."""
    attack, release = s.attack_ms, s.release_ms
    second = (attack, release)
    if s.family == "grip":
        second = GRIP_SLOW * max(attack, GRIP_SLOW_MS / GRIP_SLOW), GRIP_LONG * release
        release = GRIP_FAST * release
    if s.family == "ease":
        second = attack, EASE_LONG * release
    return np.array([_pole(ms, rate) for ms in (attack, release, *second, EASE_MS)])


def reductions(
    key: NDArray[np.float32], s: Settings, rate: int, state: NDArray[np.float64]
) -> NDArray[np.float32]:
    """The reduction in dB ``(frames,)`` that a detector which hears ``key`` ``(frames,)`` gives, sample by
    sample; makeup and mix do not matter. ``state`` is carried on."""
    attack, release = _pole(s.attack_ms, rate), _pole(s.release_ms, rate)
    out = np.empty(len(key), np.float32)
    curve = np.float32(s.threshold_db), np.float32(1 - 1 / s.ratio), np.float32(s.knee_db)
    _wanted(np.ascontiguousarray(key), *curve, out)
    _smoothed(out, attack, release, state, np.empty(-(-len(key) // TRACE_STEP), np.float32))
    return out


STRAIGHT, EASE, SLAM = (FAMILIES.index(name) for name in ("straight", "ease", "slam"))

BLOCK = 4 * TRACE_STEP
"""Samples at a time: what depends on the sample before is kept apart from what does not, so that the
latter is computed several samples at once."""


@kernel(fastmath=True, error_model="numpy")
def _compress(  # type: ignore[no-untyped-def]
    audio, out, key, threshold, slope, knee, family, power, poles, makeup, mix, state, trace
):
    heard = np.empty(BLOCK, np.float32)
    reductions, factors = np.empty(BLOCK, np.float32), np.empty(BLOCK, np.float32)
    for start in range(0, len(key), BLOCK):
        n = min(BLOCK, len(key) - start)
        part = key[start : start + n]
        if power:
            part = _powers(part, poles[4], state, heard[:n])
        _wanted(
            part,
            np.float32(threshold),
            np.float32(slope),
            np.float32(knee),
            reductions,
        )
        if family == STRAIGHT:
            _smoothed(reductions[:n], poles[0], poles[1], state, trace[start // 64 :])
        elif family == SLAM:
            _slammed(reductions[:n], poles[0], poles[1], state, trace[start // 64 :])
        else:
            _in_two(reductions[:n], family, poles, state, trace[start // 64 :])
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
def _slammed(reductions, attack, release, state, trace):  # type: ignore[no-untyped-def]
    """As `_smoothed`, but the deeper the reduction the faster the release."""
    reduction = state[0]
    for p in range(-(-len(reductions) // 64)):
        most = reduction
        for n in range(p * 64, min(p * 64 + 64, len(reductions))):
            wanted = np.float64(reductions[n])
            faster = min(release * (1.0 + reduction / SLAM_DB), 1.0)
            reduction += (attack if wanted > reduction else faster) * (wanted - reduction)
            reduction = reduction if reduction > 1e-6 else 0.0
            most = max(most, reduction)
            reductions[n] = reduction
        trace[p] = most
    state[0] = reduction


@kernel(fastmath=True, error_model="numpy")
def _in_two(reductions, family, poles, state, trace):  # type: ignore[no-untyped-def]
    """Two at once: of *grip* the larger counts, of *ease* both by half."""
    first, second = state[0], state[1]
    for p in range(-(-len(reductions) // 64)):
        most = 0.0
        for n in range(p * 64, min(p * 64 + 64, len(reductions))):
            wanted = np.float64(reductions[n])
            first += (poles[0] if wanted > first else poles[1]) * (wanted - first)
            second += (poles[2] if wanted > second else poles[3]) * (wanted - second)
            first = first if first > 1e-6 else 0.0
            second = second if second > 1e-6 else 0.0
            both = 0.5 * (first + second) if family == EASE else max(first, second)
            most = max(most, both)
            reductions[n] = both
        trace[p] = most
    state[0], state[1] = first, second


@kernel(fastmath=True, error_model="numpy")
def _powers(key, pole, state, heard):  # type: ignore[no-untyped-def]
    """The magnitude of a sine of the power that was heard of late."""
    power = state[2]
    for n in range(len(key)):
        power += pole * (np.float64(key[n]) * np.float64(key[n]) - power)
        heard[n] = np.sqrt(2.0 * power)
    state[2] = power
    return heard


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
