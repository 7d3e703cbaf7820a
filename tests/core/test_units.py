"""One place for each conversion."""

import numpy as np
import pytest

from arkund.core.units import (
    SILENCE_DB,
    amplitude_to_db,
    amplitudes_to_db,
    db_to_amplitude,
    hz_to_note,
    metres_to_samples,
    ms_to_samples,
    note_and_cents,
    note_to_hz,
    octaves_of,
    power_to_db,
    samples_to_cm,
    samples_to_ms,
)


@pytest.mark.parametrize(("db", "amplitude"), [(0, 1), (-6.0206, 0.5), (20, 10), (-120, 1e-6)])
def test_decibels_of_amplitudes(db: float, amplitude: float) -> None:
    assert db_to_amplitude(db) == pytest.approx(amplitude, rel=1e-5)
    assert amplitude_to_db(amplitude) == pytest.approx(db, abs=1e-4)
    assert power_to_db(amplitude**2) == pytest.approx(max(db, SILENCE_DB), abs=1e-4)


def test_silence_has_a_floor_and_the_sign_is_ignored() -> None:
    assert amplitude_to_db(0) == SILENCE_DB
    assert power_to_db(0) == SILENCE_DB
    assert amplitudes_to_db([0.1, -0.1, 0.0]) == pytest.approx([-20, -20, SILENCE_DB])


@pytest.mark.parametrize("rate", [44100, 48000, 96000])
def test_times_and_ways(rate: int) -> None:
    assert ms_to_samples(10, rate) == round(rate / 100)
    assert samples_to_ms(rate, rate) == 1000
    way = metres_to_samples(0.45, rate)
    assert samples_to_ms(way, rate) == pytest.approx(1.31, abs=0.02), "45 cm are about 1.3 ms"
    assert samples_to_cm(way, rate) == pytest.approx(45, abs=0.01)


def test_milliseconds_go_to_the_nearest_sample() -> None:
    assert ms_to_samples(0.011, 48000) == 1
    assert ms_to_samples(-1, 48000) == -48


@pytest.mark.parametrize(
    ("note", "hz"), [("A4", 440.0), ("A1", 55.0), ("C4", 261.6), ("F#2", 92.5)]
)
def test_notes(note: str, hz: float) -> None:
    assert note_to_hz(note) == pytest.approx(hz, rel=1e-3)
    assert hz_to_note(hz) == note
    assert hz_to_note(hz * 1.02) == note


@pytest.mark.parametrize("text", ["", "H2", "A", "440", "Cb", "A99x"])
def test_what_is_no_note_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="note"):
        note_to_hz(text)


def test_notes_go_round() -> None:
    for midi in range(21, 109):
        hz = 440 * 2 ** ((midi - 69) / 12)
        assert note_to_hz(hz_to_note(hz)) == pytest.approx(hz, rel=1e-9)
    assert np.isfinite(note_to_hz("C0"))


@pytest.mark.parametrize(
    ("hz", "words"),
    [
        (440.0, "A4"),
        (45.0, "F#1, 47 cents flat"),
        (52.0, "G#1, 3 cents sharp"),
        (61.7, "B1, 1 cent flat"),
    ],
)
def test_a_frequency_is_said_as_a_note(hz: float, words: str) -> None:
    assert note_and_cents(hz) == words


def test_a_note_s_octaves_lie_in_the_range() -> None:
    assert [n for n, _ in octaves_of("A", 20, 200)] == ["A0", "A1", "A2"]
    assert [hz for _, hz in octaves_of("A", 20, 200)] == pytest.approx([27.5, 55, 110])
    assert octaves_of("", 20, 200) == []
