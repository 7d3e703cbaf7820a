"""What two mics make of one piece when they are added: by band, as recorded, flipped, shifted."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.strokes import stroke_windows
from arkund.core.units import power_to_db

BANDS_HZ = ((25.0, 120.0), (120.0, 500.0), (500.0, 2000.0))
BEFORE_S, AFTER_S = 0.02, 0.1
NOTCHES = 4
HIGHEST_NOTCH_HZ = 16000.0


@dataclass(frozen=True)
class Sums:
    """For each of `BANDS_HZ` the power of the sum over the sum of both powers, in dB: +3 where the
    two agree and are equally loud, far below 0 where they cancel."""

    recorded: tuple[float, ...]
    flipped: tuple[float, ...]
    shifted: tuple[float, ...]
    both: tuple[float, ...]

    def by_name(self) -> Mapping[str, Sequence[float]]:
        """The four, by what is done."""
        return {
            "as recorded": self.recorded,
            "flipped": self.flipped,
            "shifted": self.shifted,
            "both": self.both,
        }


def sums_of(
    mic: NDArray[np.float32],
    reference: NDArray[np.float32],
    rate: int,
    times_s: Sequence[float],
    shift_samples: float,
) -> Sums | None:
    """Sums of two mics ``(frames,)`` at the strokes of a piece, ``mic`` flipped, shifted (positive is
    later), or both. None without strokes or where a mic is silent."""
    if not len(times_s):
        return None
    rows = [
        stroke_windows(sound, rate, list(times_s), BEFORE_S, AFTER_S) for sound in (mic, reference)
    ]
    window = np.hanning(rows[0].shape[1])
    size = scipy.fft.next_fast_len(2 * rows[0].shape[1], real=True)
    a, b = (scipy.fft.rfft(r * window, size, axis=1) for r in rows)
    hz = scipy.fft.rfftfreq(size, 1 / rate)
    apart = np.sum(np.abs(a) ** 2 + np.abs(b) ** 2, axis=0)
    cross = np.sum(a * np.conj(b), axis=0)
    if not float(apart.sum()):
        return None
    moved = cross * np.exp(-2j * np.pi * hz * shift_samples / rate)

    def levels(product: NDArray[np.complex128], sign: float) -> tuple[float, ...]:
        out = []
        for low, high in BANDS_HZ:
            inside = (hz >= low) & (hz < high)
            whole = float(np.sum(apart[inside])) + 1e-20
            together = whole + 2 * sign * float(np.sum(np.real(product[inside])))
            out.append(round(power_to_db(max(together, 1e-6 * whole) / whole), 2))
        return tuple(out)

    return Sums(levels(cross, 1.0), levels(cross, -1.0), levels(moved, 1.0), levels(moved, -1.0))


def notches_hz(delay_samples: float, rate: int, polarity: int = 1) -> list[float]:
    """The first frequencies at which two equal sounds, one of them late, cancel: odd multiples of
    half the delay's rate, or where one is flipped the whole multiples."""
    if abs(delay_samples) < 0.5:
        return []
    step = rate / abs(delay_samples)
    first = 0.5 if polarity > 0 else 1.0
    found = (round(step * (first + n), 1) for n in range(NOTCHES))
    return [hz for hz in found if hz <= HIGHEST_NOTCH_HZ]
