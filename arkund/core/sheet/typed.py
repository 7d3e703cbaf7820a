"""Values as they are typed: ``-32``, ``12 ms``, ``1.2 s``, ``1/16``, ``A1``, ``45 cm``, ``2.4k``, ``off``."""

import re

from arkund.core.errors import ArkundError
from arkund.core.sheet.limits import OFF_DB
from arkund.core.units import metres_to_samples

A4_HZ, A4_MIDI = 440.0, 69
_STEPS = {"C": 0, "D": 2, "E": 4, "F": 5, "G": 7, "A": 9, "B": 11}
_NOTE = re.compile(r"([A-Ga-g])([#b♯♭]?)(-?\d)")
_LENGTH = re.compile(r"1/(\d{1,3})([.t]?)")
_NUMBER = re.compile(r"([+-]?\d*\.?\d+)\s*(: ?1|[a-zA-Z%]*)")


def typed_value(text: str, unit: str, *, bpm: float, rate: int) -> float:
    """The number that ``text`` means where ``unit`` is wanted: a note for Hz (C4 is middle C), a
    note length for ms at ``bpm`` quarter notes a minute (``1/8t`` a triplet, ``1/8.`` dotted), ms or
    cm for samples at ``rate`` Hz. Raises `ArkundError` with a sentence otherwise."""
    clean = text.strip().replace("−", "-").replace(",", ".")
    if clean.lower() == "off" and unit == "dB":
        return OFF_DB
    if unit == "Hz" and (note := _NOTE.fullmatch(clean)):
        return round(note_hz(note[1], note[2], int(note[3])), 2)
    if unit == "ms" and (length := _LENGTH.fullmatch(clean)) and int(length[1]):
        share = {"": 1.0, ".": 1.5, "t": 2 / 3}[length[2]]
        return 240_000 / bpm / int(length[1]) * share
    number = _NUMBER.fullmatch(clean)
    if number is None:
        raise ArkundError(f"“{text.strip()[:40]}” is no value in {unit or 'numbers'}.")
    value, suffix = float(number[1]), number[2].lower()
    if suffix in ("k", "khz") or (unit == "ms" and suffix == "s"):
        return value * 1000
    if unit == "samples" and suffix == "ms":
        return value * rate / 1000
    if unit == "samples" and suffix == "cm":
        return metres_to_samples(value / 100.0, rate)
    return value


def note_hz(letter: str, accidental: str, octave: int) -> float:
    """Frequency of a note in equal temperament, A4 = 440 Hz."""
    raised = {"#": 1, "♯": 1, "b": -1, "♭": -1}.get(accidental, 0)
    midi = 12 * (octave + 1) + _STEPS[letter.upper()] + raised
    return float(A4_HZ * 2 ** ((midi - A4_MIDI) / 12))
