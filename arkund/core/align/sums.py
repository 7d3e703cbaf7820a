"""What two mics make of one piece when they are added: by band, as recorded, flipped, shifted."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.hits import hit_windows
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


class Together:
    """Two mics ``(frames,)`` at hits, to be added with any shift: spectra taken once.

    Raises `ValueError` without hits or where both are silent.
    """

    def __init__(
        self,
        mic: NDArray[np.float32],
        reference: NDArray[np.float32],
        rate: int,
        times_s: Sequence[float],
    ) -> None:
        if not len(times_s):
            raise ValueError("two mics are added at hits; there are none")
        rows = [
            hit_windows(sound, rate, list(times_s), BEFORE_S, AFTER_S) for sound in (mic, reference)
        ]
        window = np.hanning(rows[0].shape[1])
        size = scipy.fft.next_fast_len(2 * rows[0].shape[1], real=True)
        a, b = (scipy.fft.rfft(r * window, size, axis=1) for r in rows)
        self._turns = scipy.fft.rfftfreq(size, 1.0)
        self._hz = self._turns * rate
        self._apart = np.sum(np.abs(a) ** 2 + np.abs(b) ** 2, axis=0)
        self._cross = np.sum(a * np.conj(b), axis=0)
        if not float(self._apart.sum()):
            raise ValueError("both mics are silent at these hits")

    def levels_db(self, shift_samples: float = 0.0, sign: int = 1) -> tuple[float, ...]:
        """For each of `BANDS_HZ` the power of the sum over the sum of both powers, ``mic`` shifted
        (positive is later) and with ``sign`` -1 flipped."""
        moved = self._cross * np.exp(-2j * np.pi * self._turns * shift_samples)
        out = []
        for low, high in BANDS_HZ:
            inside = (self._hz >= low) & (self._hz < high)
            whole = float(np.sum(self._apart[inside])) + 1e-20
            together = whole + 2 * sign * float(np.sum(np.real(moved[inside])))
            out.append(round(power_to_db(max(together, 1e-6 * whole) / whole), 2))
        return tuple(out)


def sums_of(
    mic: NDArray[np.float32],
    reference: NDArray[np.float32],
    rate: int,
    times_s: Sequence[float],
    shift_samples: float,
) -> Sums | None:
    """Sums of two mics ``(frames,)`` at the hits of a piece, ``mic`` flipped, shifted (positive is
    later), or both. None without hits or where a mic is silent."""
    try:
        both = Together(mic, reference, rate, times_s)
    except ValueError:
        return None
    levels = both.levels_db
    return Sums(levels(), levels(0.0, -1), levels(shift_samples), levels(shift_samples, -1))


def notches_hz(delay_samples: float, rate: int, polarity: int = 1) -> list[float]:
    """The first frequencies at which two equal sounds, one of them late, cancel: odd multiples of
    half the delay's rate, or where one is flipped the whole multiples."""
    if abs(delay_samples) < 0.5:
        return []
    step = rate / abs(delay_samples)
    first = 0.5 if polarity > 0 else 1.0
    found = (round(step * (first + n), 1) for n in range(NOTCHES))
    return [hz for hz in found if hz <= HIGHEST_NOTCH_HZ]
