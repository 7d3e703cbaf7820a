"""A mic's sound in fewer samples: what lies below 4 kHz, where drums tell most, at about 12 kHz."""

from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.kernel import kernel
from arkund.core.measure.decimate import decimated

LOW_RATE = 12_000


@dataclass(frozen=True)
class Slowed:
    """Every ``step``-th sample of a sound, ``(frames,)``, in time with it; ``rate`` samples a second."""

    sound: NDArray[np.float32]
    step: int
    rate: float

    def within(self, band_hz: tuple[float, float]) -> NDArray[np.float32]:
        """What lies in a band, late by half a millisecond or so.

        Steps from sample to sample, by which newness is told (`stirs.newness`), grow with frequency: so
        steep must the filter be that nothing of a hat is left.
        """
        high = min(band_hz[1], 0.45 * self.rate)
        sections = scipy.signal.butter(
            4, (band_hz[0], high), "bandpass", fs=self.rate, output="sos"
        )
        heard: NDArray[np.float32] = _through_four(self.sound, sections)
        return heard


def slowed(audio: NDArray[np.float32], rate: int) -> Slowed:
    """``audio`` ``(frames,)`` in as few samples as leave it whole below 2 kHz, and 5 dB down at 4."""
    step = max(rate // LOW_RATE, 1)
    return Slowed(decimated(audio, step), step, rate / step)


@kernel(fastmath=True)
def _through_four(sound, sections):  # type: ignore[no-untyped-def]
    """As `scipy.signal.sosfilt` of four sections, each of which works while the next waits."""
    p, q, r, s = sections[0], sections[1], sections[2], sections[3]
    p0, p1, p2, p4, p5 = p[0], p[1], p[2], p[4], p[5]
    q0, q1, q2, q4, q5 = q[0], q[1], q[2], q[4], q[5]
    r0, r1, r2, r4, r5 = r[0], r[1], r[2], r[4], r[5]
    s0, s1, s2, s4, s5 = s[0], s[1], s[2], s[4], s[5]
    a0 = a1 = b0 = b1 = c0 = c1 = d0 = d1 = 0.0
    out = np.empty(len(sound), np.float32)
    for n in range(len(sound)):
        # Denormal numbers would slow silence down many times over.
        x = sound[n] + 1e-20
        y = p0 * x + a0
        a0, a1 = p1 * x - p4 * y + a1, p2 * x - p5 * y
        z = q0 * y + b0
        b0, b1 = q1 * y - q4 * z + b1, q2 * y - q5 * z
        y = r0 * z + c0
        c0, c1 = r1 * z - r4 * y + c1, r2 * z - r5 * y
        z = s0 * y + d0
        d0, d1 = s1 * y - s4 * z + d1, s2 * y - s5 * z
        out[n] = z
    return out
