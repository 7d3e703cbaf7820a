"""Loudness and true peak by ITU-R BS.1770-4."""

import math

import numpy as np
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.measure.lanes import powers
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
        self._sections = np.array(k_weighting(rate))
        self._states = np.zeros((channels, *self._sections.shape[:1], 2))
        self._left = np.zeros(channels)
        self._frames = 0
        self._tenths: list[NDArray[np.float64]] = []

    def feed(self, audio: NDArray[np.float32]) -> None:
        """The next ``(frames,)`` or ``(frames, channels)``."""
        sides = audio[:, None] if audio.ndim == 1 else audio
        whole = (self._frames + len(audio)) // self._step
        sums = np.zeros((len(self._states), whole + 1))
        sums[:, 0] = self._left
        for c, state in enumerate(self._states):
            side = np.ascontiguousarray(sides[:, c], np.float32)
            _add_weighted(side, self._sections, state, self._frames, self._step, sums[c])
        self._tenths.append(sums[:, :whole].sum(axis=0) / self._step)
        self._left = sums[:, whole]
        self._frames = (self._frames + len(audio)) % self._step

    def lufs(self) -> float:
        """Loudness of all that was fed, in LUFS; `SILENCE_DB` of silence."""
        power = np.concatenate(self._tenths) if self._tenths else np.zeros(0)
        if len(power) < 4:
            whole = power.sum() * self._step + self._left.sum()
            power = np.full(4, whole / max(len(power) * self._step + self._frames, 1))
        return _gated_lufs(power)


def _gated_lufs(power: NDArray[np.float64]) -> float:
    """Of the weighted power of each tenth of a second, four at least."""
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
    step = rate // 10
    sides = audio[:, None] if audio.ndim == 1 else audio
    if len(audio) >= 4 * step:
        weighting = np.array([k_weighting(rate)])
        tenths = [powers(sides[:, c], rate, weighting, step) for c in range(sides.shape[1])]
        return _gated_lufs(np.sum(tenths, axis=0)[:, 0])
    whole = Loudness(rate, sides.shape[1])
    whole.feed(audio)
    return whole.lufs()


BLOCK = 4096


@kernel(fastmath={"contract"})
def _add_weighted(x, sections, state, frames, step, sums):  # type: ignore[no-untyped-def]
    """Add the weighted squares of ``x`` up, ``step`` samples to a sum, of whose first there are
    ``frames`` already."""
    p, q = sections[0], sections[1]
    p0, p1, p2, p3, p4 = p[0], p[1], p[2], p[3], p[4]
    q0, q1, q2, q3, q4 = q[0], q[1], q[2], q[3], q[4]
    a1, a2, b1, b2 = state[0, 0], state[0, 1], state[1, 0], state[1, 1]
    at, done = 0, 0
    left = step - frames
    while done < len(x):
        count = min(left, BLOCK, len(x) - done)
        total = 0.0
        for n in range(done, done + count):
            v = np.float64(x[n])
            y = p0 * v + a1
            a1 = p1 * v + a2 - p3 * y
            a2 = p2 * v - p4 * y
            w = q0 * y + b1
            b1 = q1 * y + b2 - q3 * w
            b2 = q2 * y - q4 * w
            total += w * w
        sums[at] += total
        done += count
        left -= count
        if left == 0:
            at, left = at + 1, step
        # Denormal numbers would make silence many times slower than music.
        if abs(a1) + abs(a2) + abs(b1) + abs(b2) < 1e-18:
            a1 = a2 = b1 = b2 = 0.0
    state[0, 0], state[0, 1], state[1, 0], state[1, 1] = a1, a2, b1, b2


_HALF = 12
"""What lies between two samples follows from so many on either side."""

_WINDOW = np.kaiser(8 * _HALF + 1, 8.0)

_PHASES = np.array(
    [
        [
            np.sinc(t - p / 4) * _WINDOW[round(4 * (t - p / 4)) + 4 * _HALF]
            if abs(t - p / 4) <= _HALF
            else 0.0
            for t in range(-_HALF + 1, _HALF + 1)
        ]
        for p in (1, 2, 3)
    ],
    np.float32,
)


class TruePeak:
    """Largest magnitude at four times the rate of one channel that comes block by block."""

    def __init__(self) -> None:
        self._peak = 0.0
        self._kept = np.zeros(0, np.float32)
        self._from = 0
        """The first kept sample that has not been measured yet."""

    def feed(self, audio: NDArray[np.float32]) -> None:
        """The next ``(frames,)``."""
        audio = np.concatenate([self._kept, audio]) if len(self._kept) else audio
        # What lies between the last samples follows from those to come, too.
        stop = max(len(audio) - _HALF, self._from)
        self._look(audio, stop)
        begin = max(stop - _HALF, 0)
        self._kept, self._from = audio[begin:], stop - begin

    def amplitude(self) -> float:
        """Of all that was fed, silence after it."""
        self._look(self._kept, len(self._kept))
        self._from = len(self._kept)
        return self._peak

    def _look(self, audio: NDArray[np.float32], stop: int) -> None:
        some = np.ascontiguousarray(audio)
        most = max(self._peak, float(some.max(initial=0.0)), -float(some.min(initial=0.0)))
        self._peak = max(most, float(_between(some, _PHASES, np.float32(most), self._from, stop)))


def true_peak(audio: NDArray[np.float32]) -> float:
    """Largest magnitude of ``audio`` ``(frames,)`` or ``(frames, 2)`` at four times its rate, as amplitude.

    The three points between samples by a 24-tap windowed sinc each.
    """
    channels = audio[:, None] if audio.ndim == 1 else audio
    peak = max(float(audio.max(initial=0.0)), -float(audio.min(initial=0.0)))
    for c in range(channels.shape[1]):
        side = np.ascontiguousarray(channels[:, c])
        peak = max(peak, float(_between(side, _PHASES, np.float32(peak), 0, len(side))))
    return peak


def true_peak_dbtp(audio: NDArray[np.float32]) -> float:
    """`true_peak` of ``(frames,)`` or ``(frames, 2)`` in dBTP."""
    return amplitude_to_db(true_peak(audio))


@kernel(fastmath=True)
def _between(x, phases, peak, start, stop):  # type: ignore[no-untyped-def]
    """Largest magnitude before the samples from ``start`` to ``stop``; ``peak`` where nothing is larger."""
    most = peak
    for first in range(start, stop, 64):
        # Between quiet samples nothing can come near the peak found so far.
        near, loud = x[max(first - 1, 0) : first + 64], 0
        for k in range(len(near)):
            loud += abs(near[k]) * 4 >= most
        if loud:
            for n in range(first, min(first + 64, stop)):
                if abs(x[n]) * 4 >= most or abs(x[max(n - 1, 0)]) * 4 >= most:
                    most = max(most, _interpolated(x, phases, n))
    return most


@kernel(fastmath=True)
def _interpolated(x, phases, n):  # type: ignore[no-untyped-def]
    """Largest magnitude between a sample and the one before it."""
    begin, end = max(n - _HALF, 0), min(n + _HALF, len(x))
    near, skipped = x[begin:end], begin - (n - _HALF)
    most = np.float32(0.0)
    for p in range(len(phases)):
        taps = phases[p, skipped : skipped + len(near)]
        total = np.float32(0.0)
        for t in range(len(near)):
            total += taps[t] * near[t]
        most = max(most, abs(total))
    return most
