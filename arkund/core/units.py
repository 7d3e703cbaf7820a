"""Conversions between the units of the trade: one place for each.

Scalars and arrays are both accepted; results are float64.
"""

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray

SPEED_OF_SOUND_M_S = 343.2
"""In dry air at 20 °C."""

SILENCE_DB = -200.0
"""What is shown for digital silence."""


def db_to_amplitude(db: float) -> float:
    """Amplitude ratio of ``db`` decibels: 10^(dB/20)."""
    return float(10.0 ** (db / 20.0))


def amplitude_to_db(amplitude: float) -> float:
    """Decibels of an amplitude ratio, never below `SILENCE_DB`."""
    return 20.0 * math.log10(amplitude) if amplitude > 1e-10 else SILENCE_DB


def power_to_db(power: float) -> float:
    """Decibels of a power ratio, never below `SILENCE_DB`."""
    return 10.0 * math.log10(power) if power > 1e-20 else SILENCE_DB


def amplitudes_to_db(amplitudes: ArrayLike) -> NDArray[np.float64]:
    """`amplitude_to_db` over an array; the sign is ignored."""
    magnitude = np.abs(np.asarray(amplitudes, dtype=np.float64))
    return 20.0 * np.log10(np.maximum(magnitude, 1e-10))


def ms_to_samples(ms: float, rate: int) -> int:
    """Milliseconds as the nearest whole number of samples."""
    return round(ms * rate / 1000.0)


def samples_to_ms(samples: float, rate: int) -> float:
    """Samples as milliseconds."""
    return 1000.0 * samples / rate


def samples_to_cm(samples: float, rate: int) -> float:
    """The way sound travels in ``samples``, in centimetres."""
    return 100.0 * SPEED_OF_SOUND_M_S * samples / rate


def metres_to_samples(metres: float, rate: int) -> float:
    """The time sound takes over ``metres``, in (fractional) samples."""
    return metres / SPEED_OF_SOUND_M_S * rate


NOTE_NAMES = ("C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B")


def hz_to_note(hz: float) -> str:
    """Nearest note of equal temperament (A4 = 440 Hz), e.g. ``A1``."""
    midi = round(69 + 12 * math.log2(hz / 440.0))
    return f"{NOTE_NAMES[midi % 12]}{midi // 12 - 1}"


def note_and_cents(hz: float) -> str:
    """Nearest note and how far ``hz`` lies from it, in words: ``F#1``, ``F#1, 27 cents flat``."""
    note = hz_to_note(hz)
    cents = round(1200 * math.log2(hz / note_to_hz(note)))
    if not cents:
        return note
    count = f"{abs(cents)} cent{'' if abs(cents) == 1 else 's'}"
    return f"{note}, {count} {'sharp' if cents > 0 else 'flat'}"


def octaves_of(name: str, low_hz: float, high_hz: float) -> list[tuple[str, float]]:
    """The notes of a ``name`` such as ``A`` or ``F#`` from ``low_hz`` to ``high_hz``, with their
    frequencies; none for an empty name."""
    every = [f"{name}{octave}" for octave in range(10)] if name else []
    return [(n, hz) for n in every if low_hz <= (hz := note_to_hz(n)) <= high_hz]


def note_to_hz(note: str) -> float:
    """Frequency of a note such as ``A1`` or ``F#2``; raises `ValueError` on anything else."""
    name, octave = note[:-1].strip().upper(), note[-1:]
    if name not in NOTE_NAMES or not octave.isdigit():
        raise ValueError(f"“{note}” is not a note such as A1 or F#2.")
    return float(440.0 * 2 ** ((NOTE_NAMES.index(name) + 12 * (int(octave) + 1) - 69) / 12))
