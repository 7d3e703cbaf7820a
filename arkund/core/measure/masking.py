"""How a drum's own mics share its spectrum, what they lose to each other, and what else lies there."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.measure.hits import hit_windows
from arkund.core.units import power_to_db

THIRDS_HZ: tuple[float, ...] = tuple(float(f"{1000 * 2 ** (n / 3):.3g}") for n in range(-15, 13))
"""Middles of third octaves from 31 Hz to 16 kHz."""

HEARD_S, BEFORE_S, MOST_HITS = 0.15, 0.002, 32
NOTHING = 1e-20


@dataclass(frozen=True)
class Masking:
    """Of a drum by third octaves (`THIRDS_HZ`), at its hits: its level ``drum_db`` in dB under its loudest third;
    each mic's ``share`` of its mics' power (0 to 1); ``together_db``, what their sum has over or under that power
    (3 dB of two equal ones that agree, less than 0 where they cancel); and of what ``others`` there are, how far
    over the drum each is, in dB."""

    hits: int
    drum_db: NDArray[np.float64]
    share: Mapping[str, NDArray[np.float64]]
    together_db: NDArray[np.float64]
    others: Mapping[str, NDArray[np.float64]]


Spectra = Mapping[str, NDArray[np.complex128]]


def spectra_at_hits(
    sounds: Mapping[str, NDArray[np.float32]], rate: int, times_s: Sequence[float]
) -> tuple[Spectra, NDArray[np.float64]]:
    """Of sounds ``(frames, 2)`` by name the spectra ``(2, hits, bins)`` of 150 ms from each hit on, at most
    `MOST_HITS` of them, and the bins' frequencies in Hz."""
    times = list(times_s)[:: max(-(-len(times_s) // MOST_HITS), 1)]
    out, hz = {}, np.zeros(0)
    for name, sound in sounds.items():
        rows = np.stack(
            [
                hit_windows(np.ascontiguousarray(sound[:, side]), rate, times, BEFORE_S, HEARD_S)
                for side in (0, 1)
            ]
        )
        out[name] = scipy.fft.rfft(rows * scipy.signal.windows.tukey(rows.shape[2], 0.1), axis=2)
        hz = scipy.fft.rfftfreq(rows.shape[2], 1 / rate)
    return out, hz


def masking(own: Spectra, others: Spectra, hz: NDArray[np.float64]) -> Masking:
    """Of the spectra of a drum's own mics and of other sources, as `spectra_at_hits` gives them. Raises
    `ValueError` without a mic or a hit."""
    if not own or not next(iter(own.values())).shape[1]:
        raise ValueError("masking needs a mic and a hit")
    powers = {name: third_powers(s, hz) for name, s in own.items()}
    apart = np.sum(list(powers.values()), axis=0)
    together = third_powers(np.sum(list(own.values()), axis=0), hz)
    drum = power_to_db_of(together)
    return Masking(
        next(iter(own.values())).shape[1],
        drum - drum.max(),
        {name: p / apart for name, p in powers.items()},
        drum - power_to_db_of(apart),
        {name: power_to_db_of(third_powers(s, hz)) - drum for name, s in others.items()},
    )


def power_to_db_of(power: NDArray[np.float64]) -> NDArray[np.float64]:
    """Powers ``(n,)`` in dB."""
    return np.array([power_to_db(float(p)) for p in power])


def third_powers(spectrum: NDArray[np.complex128], hz: NDArray[np.float64]) -> NDArray[np.float64]:
    """Power in each third octave of a spectrum ``(2, hits, bins)``, sides and hits together; of a third between two
    bins the nearest one's."""
    power = np.sum(np.abs(spectrum) ** 2, axis=(0, 1))
    out = []
    for middle in THIRDS_HZ:
        inside = (hz >= middle * 2 ** (-1 / 6)) & (hz < middle * 2 ** (1 / 6))
        if inside.any():
            out.append(float(power[inside].sum()))
        elif middle < hz[-1]:
            out.append(float(power[np.argmin(np.abs(hz - middle))]))
        else:
            out.append(0.0)
    return np.array(out) + NOTHING
