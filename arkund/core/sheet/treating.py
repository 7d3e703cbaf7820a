"""What a mic goes through before its chain: repair, gate, even hits."""

from itertools import accumulate
from typing import Literal

from pydantic import Field, model_validator

from arkund.core.clean.regions import Span, complaint
from arkund.core.process.key import Key
from arkund.core.process.values import Part, choice, switch, time_ms, value
from arkund.core.sheet.limits import LONGEST_FRAMES, MOST_REGIONS, Frame, Name


class ClipGain(Part):
    """A gain over one hit: from sample ``at`` for ``frames``, eased in and out over 2 ms."""

    at: Frame
    frames: int = Field(ge=1, le=2_000_000)
    gain_db: float = Field(0.0, ge=-24, le=24)


class Run(Part):
    """Samples lost to clipping: ``frames`` of them from sample ``at``."""

    at: Frame
    frames: int = Field(ge=1, le=64)


class Repair(Part):
    """What is mended before anything else: a constant DC offset removed, mains hum notched out
    (0 Hz: none) with its harmonics, clipped runs rebuilt, single hits turned down."""

    dc: float = value(0.0, -0.5, 0.5, "", "DC offset removed")
    hum_hz: float = value(0.0, 0, 70, "Hz", "hum notches")
    hum_lines: int = value(6, 1, 12, "", "hum notches, lines")
    rebuilt: tuple[Run, ...] = Field((), max_length=5_000, title="clipped runs rebuilt")
    clip_gains: tuple[ClipGain, ...] = Field((), max_length=5_000, title="single hits turned down")

    @model_validator(mode="after")
    def _hum_is_mains(self) -> "Repair":
        if 0 < self.hum_hz < 40:
            raise ValueError("mains hum lies between 40 and 70 Hz; 0 leaves it alone")
        return self

    @model_validator(mode="after")
    def _gains_do_not_pile_up(self) -> "Repair":
        edges = sorted(
            [(g.at, 1) for g in self.clip_gains] + [(g.at + g.frames, -1) for g in self.clip_gains]
        )
        if max(accumulate((step for _, step in edges), initial=0)) > 4:
            raise ValueError("more than four gains lie over one hit")
        return self


class Region(Part):
    """A span that passes: from sample ``at`` for ``frames``, at ``gain_db``. The fades lie within; where
    the region before ends just there, the fade in leads from its gain to this one's. What a hand
    has set (``by_hand``) stays when regions are derived anew."""

    at: Frame
    frames: int = Field(ge=1, le=LONGEST_FRAMES)
    fade_in: int = Field(0, ge=0, le=LONGEST_FRAMES)
    fade_out: int = Field(0, ge=0, le=LONGEST_FRAMES)
    gain_db: float = Field(0.0, ge=-80, le=0)
    by_hand: bool = True


DEEPEST_NOTCH_DB, NOTCH_Q = -24.0, 4.0
"""Greatest depth and Q of the notch for a ring: wide enough for its pitch to fall as it decays."""


class Clean(Part):
    """The gate. On hits the hit list opens it ``lookahead_ms`` before each onset and for
    ``hold_ms`` after; on threshold the mic's own level does; by hand its regions pass. Attack and
    release are the full travel between ``range_db`` and 0 dB. On hits a ghost opens it as far as
    ``ghosts_db``. While it is shut the whole level is down by ``range_db``, or only what rings at
    ``ring_hz`` is, as far as `DEEPEST_NOTCH_DB`."""

    on: bool = switch(False, "gate")
    opens_on: Literal["hits", "threshold", "hand"] = choice("hits", "gate opens on")
    threshold_db: float = value(
        -30.0,
        -80,
        0,
        "dB",
        "threshold",
        shown=(-60, 0),
        ticks=(-60, -48, -36, -24, -12, 0),
        hint="grey: bleed · colour: this drum's hits",
        carried=True,
    )
    hysteresis_db: float = value(
        6.0,
        0,
        24,
        "dB",
        "hysteresis",
        ticks=(0, 6, 12, 18, 24),
        hint="closes this far below the threshold",
    )
    attack_ms: float = time_ms(
        0.5,
        0.1,
        50,
        "attack",
        step=1.1,
        ticks=(0.1, 1, 10, 50),
        hint="area: the average hit's rise",
    )
    hold_ms: float = time_ms(
        80.0,
        0,
        4000,
        "hold",
        shown=(5, 2000),
        ticks=(10, 30, 100, 300, 1000),
        hint="line: how this drum rings",
    )
    release_ms: float = time_ms(
        150.0,
        1,
        5000,
        "release",
        shown=(5, 2000),
        ticks=(10, 30, 100, 300, 1000),
        hint="bars: time to this drum's next hit",
    )
    range_db: float = value(
        -40.0,
        -80,
        0,
        "dB",
        "range",
        step=1,
        ticks=(-80, -60, -40, -20, 0),
        hint="shaded: −12 to −20 dB tucks the bleed and keeps the kit breathing",
    )
    ghosts_db: float = value(
        0.0,
        -24,
        0,
        "dB",
        "ghosts' level",
        step=1,
        ticks=(-24, -12, -6, 0),
        hint="0: opens fully for ghosts, too; lower: keeps them softer",
    )
    lookahead_ms: float = value(
        1.0,
        0,
        20,
        "ms",
        "lookahead",
        step=0.5,
        ticks=(0, 5, 10, 20),
        hint="opens this long before a hit",
    )
    soft_ms: float = value(
        0.0,
        0,
        30,
        "ms",
        "soft hits earlier",
        step=1,
        ticks=(0, 10, 20, 30),
        hint="on hits: opens this much earlier for soft hits, which build up slowly",
    )
    key: Key = Key()
    """What the threshold listens to: this mic, or another, as it comes before its own gate."""
    shuts: Literal["level", "ring"] = choice("level", "shuts")
    ring_hz: float = value(
        200.0,
        30,
        2000,
        "Hz",
        "ring notch",
        scale="log",
        step=1.01,
        ticks=(30, 100, 300, 1000, 2000),
        hint="the ring at this frequency is lowered while the gate is shut; the rest stays",
    )
    fade: Literal["decibels", "straight", "smooth"] = choice("decibels", "fades of regions")
    regions: dict[Name, Region] = Field({}, max_length=MOST_REGIONS, title="regions")

    @property
    def spans(self) -> tuple[Span, ...]:
        """The regions in the song's order."""
        spans = (
            Span(r.at, r.frames, r.fade_in, r.fade_out, r.gain_db, r.by_hand)
            for r in self.regions.values()
        )
        return tuple(sorted(spans, key=lambda s: s.at))

    @model_validator(mode="after")
    def _regions_lie_apart(self) -> "Clean":
        named = [
            (name, Span(r.at, r.frames, r.fade_in, r.fade_out)) for name, r in self.regions.items()
        ]
        if wrong := complaint(named):
            raise ValueError(wrong)
        return self


class Even(Part):
    """Even hits: how far each hit goes toward where its like peaks; 0 leaves them alone."""

    amount: float = value(
        0.0,
        0,
        1,
        "×",
        "even hits",
        step=0.05,
        ticks=(0, 0.25, 0.5, 0.75, 1),
        hint="accents toward accents, the others toward the others; ghosts stay",
    )
