"""Channels: what mics, groups, buses and the drum bus share, and what is each one's own."""

from collections.abc import Iterator
from itertools import accumulate
from typing import Annotated, Literal, TypeVar

from pydantic import Field, model_validator

from arkund.core.clean.regions import Span, complaint
from arkund.core.kit.roles import MicName, Role, parse_mic_name
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.key import Key
from arkund.core.process.registry import AnyStage
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.process.values import Part, choice, switch, value

OFF_DB = -90.0
"""A fader, send or blend at this value is shut."""

MOST_STAGES = 32
MOST_SENDS = 128
MOST_REGIONS = 5_000
LONGEST_FRAMES = 2_000_000_000
"""More than an hour at the highest rate that is taken."""

Frame = Annotated[int, Field(ge=0, le=LONGEST_FRAMES)]
Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,31}$")]
"""The one rule for names of lanes: they become names of files and parts of paths."""

Words = Annotated[str, Field(pattern=r"^[^\x00-\x1f\x7f]*$")]
"""What an engineer calls a thing: any letters on one line."""

DRUMS = "drums"
"""Where groups and buses go, and mics that are in no group: the drum bus."""

CHANNELS = ("mics", "layers", "groups", "buses")
"""Tables of the sheet that hold channels by name."""

DRUM_BUS = "drum_bus"
"""The drum bus, as it is called in the graph and in the sheet."""

S = TypeVar("S", bound=Stage)


def _fader(label: str, hint: str, default: float = 0.0) -> float:
    made: float = value(
        default, OFF_DB, 12, "dB", label, shown=(-60, 12), ticks=(-60, -40, -20, 0, 12), hint=hint
    )
    return made


class Channel(Part):
    """A chain of stages in order, then mute and fader."""

    chain: tuple[AnyStage, ...] = Field((), max_length=MOST_STAGES, title="chain")
    mute: bool = switch(False, "mute")
    fader_db: float = _fader("fader", "level in the mix")

    @model_validator(mode="after")
    def _stages_have_ids_of_their_own(self) -> "Channel":
        seen: set[str] = set()
        for stage in self.chain:
            if stage.id in seen:
                raise ValueError(f"two stages are called {stage.id}")
            seen.add(stage.id)
        return self

    def first(self, kind: type[S]) -> S | None:
        """The first stage of a kind, None where the chain has none."""
        return next((s for s in self.chain if isinstance(s, kind)), None)

    def stages(self, kind: type[S]) -> Iterator[S]:
        """All stages of a kind, in order."""
        return (s for s in self.chain if isinstance(s, kind))


def stage_path(channel: str, stage: Stage) -> str:
    """Path of a stage in the channel at a path: ``mics.snare_top.chain.eq``."""
    return f"{channel}.chain.{stage.id}"


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
"""A ring's notch: as wide as the pitch of what sings falls while it dies."""


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
    attack_ms: float = value(
        0.5,
        0.1,
        50,
        "ms",
        "attack",
        scale="log",
        step=1.1,
        ticks=(0.1, 1, 10, 50),
        hint="area: the average hit's rise",
    )
    hold_ms: float = value(
        80.0,
        0,
        4000,
        "ms",
        "hold",
        shown=(5, 2000),
        scale="log",
        step=1.06,
        ticks=(10, 30, 100, 300, 1000),
        hint="line: how this drum rings",
    )
    release_ms: float = value(
        150.0,
        1,
        5000,
        "ms",
        "release",
        shown=(5, 2000),
        scale="log",
        step=1.06,
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


def _mic_chain() -> tuple[Stage, ...]:
    return (Equaliser(), Transient(), Compressor(on=False))


class Mic(Channel):
    """One lane: who it is, then its settings in signal order. ``delay_samples`` positive is later.

    ``to`` is the group that it runs into, or the drum bus. Pan −1 (left) to 1: constant power,
    −3 dB at the centre.
    """

    role: Role
    index: int | None = Field(None, ge=1, le=99)
    side: Literal["l", "r"] | None = None
    file: str = Field("", max_length=1000)
    unused: Words = Field("", max_length=200)
    """Why the mic is left out of everything; empty where it is in use."""
    linked: bool = switch(False, "linked with its other side")
    """Left and right of a pair are one lane: trim, fader, mute and chain are set on both, and what
    listens in the chain hears both."""
    overdub: bool = False
    """Recorded by itself: heard, but no part of the kit's bleed, alignment and hits."""
    distance_cm: float | None = Field(
        None, ge=0, le=3000, title="distance", json_schema_extra={"unit": "cm"}
    )
    """Measured from its piece's head; for overheads and rooms from the snare's."""
    repair: Repair = Repair()
    trim_db: float = value(
        0.0,
        -24,
        24,
        "dB",
        "trim",
        ticks=(-24, -12, 0, 12, 24),
        hint="bars: the trim that would bring each hit to where the school wants it",
    )
    polarity: Literal[1, -1] = choice(1, "polarity")
    delay_samples: float = value(
        0.0,
        -4800,
        4800,
        "samples",
        "delay",
        shown=(-400, 400),
        step=1,
        ticks=(-400, -200, 0, 200, 400),
        hint="positive is later; the mark closes the gap to the reference",
    )
    clean: Clean = Clean()
    even: Even = Even()
    chain: tuple[AnyStage, ...] = Field(
        default_factory=_mic_chain, max_length=MOST_STAGES, title="chain"
    )
    fader_db: float = _fader("fader", "level in the mix; sends before the fader stay as they are")
    pan: float = value(
        0.0,
        -1,
        1,
        "",
        "pan",
        step=0.05,
        ticks=(-1, -0.5, 0, 0.5, 1),
        hint="−1 left, 1 right; constant power, −3 dB at the centre",
    )
    to: Name = Field(DRUMS, title="runs into")

    @property
    def name(self) -> MicName:
        """Its name by role, number and side."""
        return MicName(self.role, self.index, self.side)


class Send(Part):
    """What a bus takes of a mic, group or other bus: before its fader or after it."""

    db: float = value(0.0, OFF_DB, 12, "dB", "send", shown=(-40, 6), ticks=(-40, -20, 0, 6))
    pre: bool = switch(True, "send before the fader")


class Group(Channel):
    """Mics that run together; transparent as it comes."""


class Bus(Channel):
    """A bus fed by sends, blended under the rest by its fader."""

    sends: dict[Name, Send] = Field({}, max_length=MOST_SENDS)
    fader_db: float = _fader("blend", "the return under the rest; shut at the left end", OFF_DB)


class DrumBus(Channel):
    """What all groups and buses run into: glue, then level."""

    chain: tuple[AnyStage, ...] = Field(
        default_factory=lambda: (Compressor(on=False, ratio=2, attack_ms=20, release_ms=150),),
        max_length=MOST_STAGES,
        title="chain",
    )
    fader_db: float = value(
        0.0,
        OFF_DB,
        12,
        "dB",
        "level",
        shown=(-24, 12),
        ticks=(-24, -12, 0, 12),
        hint="mark: where the song's mix peaks at −8 dBFS",
    )


GROUPS = {
    "kick": ("kick_in", "kick_out", "kick_sub"),
    "snare": ("snare_top", "snare_bottom"),
    "toms": ("tom",),
    "cymbals": ("hat", "ride", "crash", "overhead"),
    "rooms": ("room", "crush"),
}
"""The groups that a song has as it comes, with the roles that run into each."""


def group_of(role: str) -> str:
    """The group that a role runs into as it comes."""
    return next((group for group, roles in GROUPS.items() if role in roles), DRUMS)


def new_mic(name: str, file: str = "") -> Mic:
    """A mic with transparent settings, in its group; of a pair panned to its side and linked."""
    parsed = parse_mic_name(name)
    pan = {"l": -1.0, "r": 1.0}.get(parsed.side or "", 0.0)
    return Mic(
        role=parsed.role,
        index=parsed.index,
        side=parsed.side,
        file=file,
        pan=pan,
        linked=parsed.side is not None,
        to=group_of(parsed.role),
    )


def groups_for(mics: dict[str, Mic]) -> dict[str, Group]:
    """The groups into which these mics run."""
    wanted = {mic.to for mic in mics.values()}
    return {name: Group() for name in GROUPS if name in wanted}
