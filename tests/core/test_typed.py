"""Values as they are typed."""

import pytest

from arkund.core.errors import ArkundError
from arkund.core.sheet.typed import typed_value


@pytest.mark.parametrize(
    ("text", "unit", "wanted"),
    [
        ("-32", "dB", -32),
        ("−32,5", "dB", -32.5),
        ("off", "dB", -90),
        ("+4 dB", "dB", 4),
        ("12 ms", "ms", 12),
        ("1.2 s", "ms", 1200),
        ("1/16", "ms", 125),
        ("1/8t", "ms", 500 / 3),
        ("1/8.", "ms", 375),
        ("A1", "Hz", 55),
        ("c4", "Hz", 261.63),
        ("Bb2", "Hz", 116.54),
        ("F#1", "Hz", 46.25),
        ("2.4k", "Hz", 2400),
        ("2 kHz", "Hz", 2000),
        ("10 ms", "samples", 480),
        ("34.32 cm", "samples", 48),
        ("8:1", ": 1", 8),
        ("4", ": 1", 4),
        (".5", "", 0.5),
    ],
)
def test_what_is_typed_means_a_number(text: str, unit: str, wanted: float) -> None:
    """At 120 BPM a quarter note is 500 ms; at 48 kHz sound goes 0.715 cm a sample."""
    assert typed_value(text, unit, bpm=120, rate=48000) == pytest.approx(wanted, abs=0.005)


@pytest.mark.parametrize(
    ("text", "unit"),
    [
        ("", "dB"),
        ("loud", "dB"),
        ("off", "Hz"),
        ("H2", "Hz"),
        ("1/0", "ms"),
        ("1e400", "dB"),
        ("-", "ms"),
    ],
)
def test_what_means_nothing_is_said_in_a_sentence(text: str, unit: str) -> None:
    with pytest.raises(ArkundError, match=r"is no value in .*\.$"):
        typed_value(text, unit, bpm=120, rate=48000)
