"""One band of the equaliser: what it is set to, and the filters that make it."""

from typing import Literal

from arkund.core.process.cascade import AREA, HZ
from arkund.core.process.stage import Id
from arkund.core.process.values import Part, choice, switch, time_ms, value
from arkund.core.shape import biquad, compressor, moving

Kind = Literal["bell", "low_shelf", "high_shelf", "low_pair", "high_pair", "tilt", "notch"]
MOVING = ("bell", "low_shelf", "high_shelf")
"""Kinds of one filter, which can be let in by parts."""

PAIR_SHARE, PAIR_APART, PAIR_Q = 0.5, 3.0, 0.5
"""A pair is a shelf of its gain and half as much again, and a wider one against it of that half, whose frequency
lies three times as high (or low): together its gain far out, a third of it the other way beside."""

NOTCH_DB = -48.0

USED: dict[str, tuple[str, ...]] = {
    "tilt": ("frequency_hz", "gain_db"),
    "notch": ("frequency_hz", "q"),
    "low_pair": ("frequency_hz", "gain_db", "q"),
    "high_pair": ("frequency_hz", "gain_db", "q"),
}
"""What kinds use of a band's values, where that is not all of them."""

MOVING_KNEE_DB = 3.0
"""A band sets in softly at its threshold."""

SHELF_Q = 1.2
"""A sharper shelf would overshoot by several dB on both sides of its slope."""

_DB = (-60.0, -48.0, -36.0, -24.0, -12.0, 0.0)


class Band(Part):
    """A bell, shelf, pair, tilt or notch. Q 0.4 (broad) to 16 (narrow); a shelf's is how steep it is.

    A pair lifts the lows (or the highs) by its gain and takes a third of that away around an octave beside them,
    or the other way round. A tilt turns the spectrum about its frequency: what lies above gains what lies below
    loses. A notch takes its frequency out, whatever its gain.

    With a ``range_db`` it moves from its gain by as much at most, up or down, while what it listens to is above
    the threshold: its own band's sound, or the EQ's key."""

    id: Id
    on: bool = switch(False, "on")
    kind: Kind = choice("bell", "kind")
    frequency_hz: float = value(
        1000.0, 20, 16000, "Hz", "frequency", scale="log", step=1.03, ticks=HZ, hint=AREA
    )
    gain_db: float = value(
        0.0,
        -24,
        24,
        "dB",
        "gain",
        shown=(-18, 18),
        ticks=(-18, -12, -6, 0, 6, 12, 18),
        hint="up or down, 18 dB on the ruler",
    )
    q: float = value(
        1.0,
        0.4,
        16,
        "Q",
        "width",
        scale="log",
        step=1.06,
        ticks=(0.5, 1, 2, 4, 8, 16),
        hint="broad to narrow",
    )
    range_db: float = value(
        0.0,
        -24,
        24,
        "dB",
        "moves by",
        shown=(-18, 18),
        ticks=(-18, -12, -6, 0, 6, 12, 18),
        hint="0 stands still; else as far as a bell or shelf moves above the threshold",
    )
    threshold_db: float = value(
        -30.0, -80, 0, "dB", "threshold", shown=(-60, 0), ticks=_DB, hint="of what it listens to"
    )
    ratio: float = value(
        4.0, 1, 100, ": 1", "ratio", shown=(1, 20), scale="log", step=1.06, ticks=(1, 2, 4, 8, 20)
    )
    attack_ms: float = time_ms(1.0, 0.05, 200, "attack", step=1.08, ticks=(0.1, 1, 10, 100))
    release_ms: float = time_ms(
        80.0, 1, 5000, "release", shown=(5, 2000), ticks=(10, 30, 100, 300, 1000)
    )
    hears: Literal["band", "key"] = choice(
        "band", "moves with", hint="band: what the band itself hears · key: what the EQ listens to"
    )

    @property
    def stands(self) -> bool:
        """Whether it is on and changes something while it does not move."""
        return self.on and (self.gain_db != 0 or self.kind == "notch")

    @property
    def moves(self) -> bool:
        """Whether it is on and has a way to go; only a bell or a shelf has."""
        return self.on and self.range_db != 0 and self.kind in MOVING


def band_sections(band: Band, rate: int) -> list[biquad.Section]:
    """The sections of a band that stands, at ``rate`` samples/s; a shelf's Q is held to `SHELF_Q`."""
    gain, hz, q = band.gain_db, band.frequency_hz, min(band.q, SHELF_Q)
    if band.kind in ("low_pair", "high_pair"):
        low = band.kind == "low_pair"
        shelf, away = (
            (biquad.low_shelf, hz * PAIR_APART) if low else (biquad.high_shelf, hz / PAIR_APART)
        )
        own, against = shelf(gain * (1 + PAIR_SHARE), q), shelf(-gain * PAIR_SHARE, PAIR_Q)
        return [biquad.match(own, hz, rate), biquad.match(against, away, rate)]
    if band.kind == "tilt":
        return [biquad.match(biquad.tilt(gain), hz, rate)]
    if band.kind == "notch":
        return [biquad.match(biquad.notch(NOTCH_DB, band.q), hz, rate)]
    return [_section(band, gain, rate)]


def _section(band: Band, gain_db: float, rate: int) -> biquad.Section:
    """Of a bell or shelf at a gain."""
    make = {"bell": biquad.bell, "low_shelf": biquad.low_shelf, "high_shelf": biquad.high_shelf}
    q = band.q if band.kind == "bell" else min(band.q, SHELF_Q)
    return biquad.match(make[band.kind](gain_db, q), band.frequency_hz, rate)


def moving_band(band: Band, rate: int) -> moving.Settings:
    """How a band moves from its gain, and by what."""
    detector = compressor.Settings(
        band.threshold_db, band.ratio, MOVING_KNEE_DB, band.attack_ms, band.release_ms
    )
    return moving.Settings(
        _section(band, band.range_db, rate), band.range_db, detector, band.hears == "key"
    )
