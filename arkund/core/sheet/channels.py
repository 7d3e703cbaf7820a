"""Channels: what mics, groups, buses and the drum bus share, and what is each one's own."""

from collections.abc import Iterator
from typing import Literal, TypeVar

from pydantic import Field, model_validator

from arkund.core.kit.roles import MicName, Role, parse_mic_name
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.registry import AnyStage
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.process.values import Part, choice, switch, value
from arkund.core.sheet.limits import MOST_SENDS, MOST_STAGES, OFF_DB, Name, Words
from arkund.core.sheet.treating import Clean, Even, Repair

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
    """What a bus takes of a mic, group or other bus: before its fader or after it, or ``untreated``, before its chain,
    so that it is treated a second time beside the first; of a close mic all of it, or ``by_hits``: its drum's
    hits alone, so that no bleed is in a plate."""

    db: float = value(0.0, OFF_DB, 12, "dB", "send", shown=(-40, 6), ticks=(-40, -20, 0, 6))
    pre: bool = switch(True, "send before the fader")
    untreated: bool = switch(False, "send before the chain")
    by_hits: bool = switch(False, "send by the drum's hits")


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
