"""What a sheet says about time: rules, stretches, copied places."""

from typing import Literal

from pydantic import Field

from arkund.core.process.values import Part, choice, value
from arkund.core.sheet.limits import LONGEST_FRAMES, Frame, HitId, Quarters, SongSeconds, Words
from arkund.core.sheet.tempo import Bar


class Stretch(Part):
    """From sample ``at`` of the song on, until the next stretch, this take sounds; it comes in
    over ``fade_ms`` that end at ``at``. ``shape`` *power* suits takes that know nothing of each
    other, *level* sounds that are alike."""

    take: int = Field(ge=1)
    at: Frame
    fade_ms: float = Field(2.0, ge=0.1, le=200)
    shape: Literal["power", "level"] = "power"


class Copy(Part):
    """``frames`` samples of a take, from its sample ``source`` in the song's time on, laid over
    the song at sample ``at`` in all mics."""

    take: int = Field(ge=1)
    source: int = Field(ge=-100_000_000, le=LONGEST_FRAMES)
    at: Frame
    frames: int = Field(ge=16, le=LONGEST_FRAMES)
    fade_ms: float = Field(2.0, ge=0.1, le=200)
    shape: Literal["power", "level"] = "power"
    label: Words = Field("", max_length=80)


class TimingRule(Part):
    """How the hits of some bars are put in time. Later rules override earlier ones."""

    start_bar: Bar = 1
    bars: Bar = 1
    school: Literal["exact", "feel"] = choice("feel", "school")
    division: Literal["1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32"] = choice(
        "1/16", "finest division"
    )
    strength: float = value(
        1.0,
        0,
        1,
        "×",
        "strength",
        step=0.05,
        ticks=(0, 0.25, 0.5, 0.75, 1),
        hint="how much of the way to its place each hit goes",
    )
    window_ms: float = value(
        0.0,
        0,
        60,
        "ms",
        "left alone within",
        step=1,
        ticks=(0, 10, 20, 40, 60),
        hint="hits this close to their place stay; bars: how far they are",
    )
    swing: float = value(
        0.5,
        0.5,
        0.75,
        "",
        "swing",
        step=0.01,
        ticks=(0.5, 0.58, 0.67, 0.75),
        hint="where every second line lies in its pair: 0.5 straight, 0.67 shuffled; bars: as played",
    )


class Timing(Part):
    """What is wanted of the hits' places: rules by span; single hits by hit id put at a
    time (s in the song), or told the line on which they were meant (quarters since bar 1); how far
    the kick's close mics may follow the snare alone."""

    rules: tuple[TimingRule, ...] = Field((), max_length=500)
    to_s: dict[HitId, SongSeconds] = Field({}, max_length=100_000)
    lines: dict[HitId, Quarters] = Field({}, max_length=100_000)
    kick_alone_ms: float = Field(0.0, ge=0, le=15)
