"""Loudness and true peak by ITU-R BS.1770-4."""

import math

import numpy as np
from numba import njit
from numpy.typing import NDArray

from arkund.core.shape import biquad
from arkund.core.units import SILENCE_DB, amplitude_to_db

ABSOLUTE_GATE_LUFS = -70.0


def k_weighting(rate: int) -> list[biquad.Section]:
    """The two sections of the K curve, from BS.1770's analogue parameters for any rate."""
    # High shelf: f0 = 1681.97 Hz, G = 3.9998 dB, Q = 0.7072; high-pass: f0 = 38.135 Hz.
    k = math.tan(math.pi * 1681.974450955533 / rate)
    vh, vb, q = (
        10 ** (3.999843853973347 / 20),
        (10 ** (3.999843853973347 / 20)) ** 0.4996667741545416,
        0.7071752369554196,
    )
    a0 = 1 + k / q + k * k
    shelf = (
        (vh + vb * k / q + k * k) / a0,
        2 * (k * k - vh) / a0,
        (vh - vb * k / q + k * k) / a0,
        2 * (k * k - 1) / a0,
        (1 - k / q + k * k) / a0,
    )
    k, q = math.tan(math.pi * 38.13547087602444 / rate), 0.5003270373238773
    a0 = 1 + k / q + k * k
    return [shelf, (1.0, -2.0, 1.0, 2 * (k * k - 1) / a0, (1 - k / q + k * k) / a0)]


class Loudness:
    """Integrated loudness of sound that comes block by block.

    Blocks of 400 ms every 100 ms, gated absolutely at −70 LUFS and relatively at −10 LU. Sound
    shorter than 400 ms is one block.
    """

    def __init__(self, rate: int, channels: int) -> None:
        self._step = rate // 10
        self._sections = k_weighting(rate)
        self._states = [biquad.new_state(self._sections) for _ in range(channels)]
        self._squares = np.zeros((channels, 0))
        self._tenths: list[NDArray[np.float64]] = []

    def feed(self, audio: NDArray[np.float32]) -> None:
        """The next ``(frames,)`` or ``(frames, channels)``."""
        sides = audio[:, None] if audio.ndim == 1 else audio
        # A row a side, so that sums run along memory.
        weighted = [
            biquad.run(sides[:, c], self._sections, state) for c, state in enumerate(self._states)
        ]
        squares = np.concatenate([self._squares, np.square(weighted, dtype=np.float64)], axis=1)
        whole = squares.shape[1] // self._step
        tenths = squares[:, : whole * self._step].reshape(len(squares), whole, self._step)
        self._tenths.append(tenths.mean(axis=2).sum(axis=0))
        self._squares = squares[:, whole * self._step :]

    def lufs(self) -> float:
        """Loudness of all that was fed, in LUFS; `SILENCE_DB` of silence."""
        power = np.concatenate(self._tenths) if self._tenths else np.zeros(0)
        if len(power) < 4:
            rest, frames = self._squares.sum(), self._squares.shape[1]
            whole = power.sum() * self._step + rest
            power = np.full(4, whole / max(len(power) * self._step + frames, 1))
        blocks = np.convolve(power, np.full(4, 0.25), "valid")
        loud = -0.691 + 10 * np.log10(blocks + 1e-20)
        kept = blocks[loud > ABSOLUTE_GATE_LUFS]
        if len(kept) == 0:
            return SILENCE_DB
        relative = -0.691 + 10 * math.log10(float(kept.mean())) - 10
        kept = blocks[(loud > ABSOLUTE_GATE_LUFS) & (loud > relative)]
        return -0.691 + 10 * math.log10(float(kept.mean()))


def loudness_lufs(audio: NDArray[np.float32], rate: int) -> float:
    """Integrated loudness (see `Loudness`) of ``(frames,)`` or ``(frames, channels)`` in LUFS."""
    whole = Loudness(rate, 1 if audio.ndim == 1 else audio.shape[1])
    whole.feed(audio)
    return whole.lufs()


_HALF = 12
_PHASES = np.array(
    [
        [
            np.sinc(t - p / 4) * np.kaiser(8 * _HALF + 1, 8.0)[round(4 * (t - p / 4)) + 4 * _HALF]
            if abs(t - p / 4) <= _HALF
            else 0.0
            for t in range(-_HALF + 1, _HALF + 1)
        ]
        for p in (1, 2, 3)
    ],
    np.float32,
)


def true_peak(audio: NDArray[np.float32]) -> float:
    """Largest magnitude of the signal at four times its rate, as amplitude.

    The three points between samples by a 24-tap windowed sinc each.
    """
    channels = audio[:, None] if audio.ndim == 1 else audio
    peak = float(np.max(np.abs(audio), initial=0.0))
    for c in range(channels.shape[1]):
        padded = np.pad(np.ascontiguousarray(channels[:, c]), _HALF)
        peak = max(peak, float(_between(padded, _PHASES)))
    return peak


def true_peak_dbtp(audio: NDArray[np.float32]) -> float:
    """`true_peak` in dBTP."""
    return amplitude_to_db(true_peak(audio))


@njit(cache=True, nogil=True, fastmath=True)
def _between(x, phases):  # type: ignore[no-untyped-def]
    most = np.float32(0.0)
    for n in range(len(x) - 24):
        # Between quiet samples nothing can come near the peak found so far.
        if abs(x[n + 11]) * 4 < most and abs(x[n + 12]) * 4 < most:
            continue
        for p in range(3):
            total = np.float32(0.0)
            for t in range(24):
                total += phases[p, t] * x[n + t]
            most = max(most, abs(total))
    return most
