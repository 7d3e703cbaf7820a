"""The sheet: the whole settings document of the mix.

With the source audio it is the only input of rendering. Immutable, versioned, unknown keys
refused. Every default passes sound through untouched, so a field that is added later leaves old
sheets sounding as they did. Units stand in the names: dB, ms, Hz, samples."""

import json
from collections.abc import Container, Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, model_validator

from arkund.core.errors import SheetError
from arkund.core.process.values import Part, choice, value
from arkund.core.sheet.channels import DRUMS, Bus, Channel, DrumBus, Group, Mic
from arkund.core.sheet.complaints import first_complaint
from arkund.core.sheet.differences import MOST as MOST_DIFFERENCES
from arkund.core.sheet.differences import Over, refuse
from arkund.core.sheet.layers import AnyLayer
from arkund.core.sheet.limits import LONGEST_FRAMES, OFF_DB, HitId, Name, Words
from arkund.core.sheet.tempo import Bar, Tempo
from arkund.core.sheet.timing import Copy, Stretch, Timing
from arkund.core.sheet.upgrade import upgraded
from arkund.core.sheet.within import with_values

SCHEMA_VERSION = 3
MOST_MICS, MOST_LAYERS = 64, 16

Hash = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
"""Names a stored file by its content."""


NODES = ("output", "sum", "song", "drums", "bed", "reference")
"""Names of what can be heard besides mics and buses; no bus may take one."""


class Section(Part):
    """A named run of bars, the first of them 1-based."""

    name: Words = Field(min_length=1, max_length=40)
    start_bar: Bar
    bars: Bar


class Source(Part):
    """The sound of one mic in one take: content hash of the stored file and what is taken of it."""

    sha256: Hash
    pick: Literal["mono", "left", "right", "sum"] = "mono"


class Correction(Part):
    """What an ear changed about one hit of the hit list, by its id; an id that the list does
    not have adds a hit. Times in s in the take's files."""

    gone: bool = False
    piece: str | None = Field(None, pattern=r"^[a-z]+(_[0-9]+)?$")
    time_s: float | None = Field(None, ge=0, le=100_000)
    velocity: int | None = Field(None, ge=1, le=127)
    kind: Literal["accent", "plain", "ghost", "flam", "roll"] | None = None


class Take(Part):
    """One pass through the song; ``hits`` is the content hash of its hit list."""

    number: int = Field(ge=1, le=999)
    sources: dict[Name, Source] = Field(max_length=MOST_MICS)
    hits: Hash | None = None
    analysis: Hash | None = None
    """Content hash of what was measured: delays between mics, levels. Rendering does not read it."""
    corrections: dict[HitId, Correction] = Field({}, max_length=100_000)
    offset: int = Field(0, ge=-100_000_000, le=100_000_000)
    """Samples by which the take's files run ahead of the song: its bar 1 lies that much later."""


class Sheet(Part):
    """The whole document. ``frames`` is the length of the longest mic at ``rate`` Hz."""

    version: Literal[3] = 3
    rate: int = Field(ge=8000, le=384000)
    frames: int = Field(ge=1, le=LONGEST_FRAMES)
    tempo: Tempo = Tempo()
    root_note: Literal["", "C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"] = (
        choice("", "root note")
    )
    sections: tuple[Section, ...] = Field((), max_length=500)
    takes: tuple[Take, ...] = Field(min_length=1, max_length=99)
    comp: tuple[Stretch, ...] = Field((), max_length=500)
    copies: tuple[Copy, ...] = Field((), max_length=1_000)
    timing: Timing = Timing()
    moves: Hash | None = None
    """Content hash of the edit list that `timing` came to."""
    mics: dict[Name, Mic] = Field(min_length=1, max_length=MOST_MICS)
    layers: dict[Name, AnyLayer] = Field({}, max_length=MOST_LAYERS)
    groups: dict[Name, Group] = Field({}, max_length=32)
    buses: dict[Name, Bus] = Field({}, max_length=32)
    drum_bus: DrumBus = DrumBus()
    over: tuple[Over, ...] = Field((), max_length=MOST_DIFFERENCES, title="differences")
    bed_db: float = value(0.0, OFF_DB, 12, "dB", "level of the bed")
    """How loud the bed is heard under the drums; no print holds it."""

    @property
    def take(self) -> Take:
        """The take on which the rest is measured: the one that sounds longest, without a comp
        the first."""
        if not self.comp:
            return self.takes[0]
        ends = [*(s.at for s in self.comp[1:]), self.frames]
        lengths: dict[int, int] = {}
        for stretch, end in zip(self.comp, ends, strict=True):
            lengths[stretch.take] = lengths.get(stretch.take, 0) + end - stretch.at
        longest = max(lengths, key=lambda n: (lengths[n], -n))
        return next(t for t in self.takes if t.number == longest)

    @model_validator(mode="after")
    def _bar_1_is_in_the_song(self) -> "Sheet":
        if self.tempo.first_downbeat_s >= self.frames / self.rate:
            raise ValueError(
                f"bar 1 would begin after the song's end, {self.frames / self.rate:.1f} s"
            )
        return self

    @model_validator(mode="after")
    def _lanes_have_names_of_their_own(self) -> "Sheet":
        for name, mic in self.mics.items():
            if name != str(mic.name):
                raise ValueError(f"the mic {name} calls itself {mic.name}")
        taken = {*self.mics, *NODES}
        for what, names in (
            ("layer", [*self.layers]),
            ("group", [*self.groups]),
            ("bus", [*self.buses]),
        ):
            for name in names:
                if name in taken:
                    raise ValueError(f"a {what} cannot be called {name}; something else is")
            taken |= {*names}
        return self

    @model_validator(mode="after")
    def _names_lead_somewhere(self) -> "Sheet":
        if lost := sorted({m for t in self.takes for m in t.sources} - set(self.mics)):
            raise ValueError(f"there is no mic {lost[0]}")
        for name, mic in self.mics.items():
            if mic.to != DRUMS and mic.to not in self.groups:
                raise ValueError(f"{name} runs into the group {mic.to}, which is not there")
        for name, layer in self.layers.items():
            if layer.of not in self.mics or not self.mics[layer.of].name.piece:
                raise ValueError(f"the layer {name} follows {layer.of}, which is no close mic here")
            if layer.to != DRUMS and layer.to not in self.groups:
                raise ValueError(f"{name} runs into the group {layer.to}, which is not there")
        sources = {*self.mics, *self.groups, *self.buses}
        for name, bus in self.buses.items():
            if lost := sorted(set(bus.sends) - sources):
                raise ValueError(f"the bus {name} takes from {lost[0]}, which is not there")
        bus_order(self.buses)
        hits = {f"{mic.name.piece}_hits" for mic in self.mics.values() if mic.name.piece}
        for name, mic in self.mics.items():
            if mic.clean.key.source and mic.clean.key.source not in self.mics:
                raise ValueError(
                    f"the gate of {name} cannot listen to {mic.clean.key.source}; "
                    "gates listen to mics"
                )
            _refuse_keys(name, mic, {*self.mics, *hits}, "a mic's stages listen to mics and hits")
        for name, layer in self.layers.items():
            _refuse_keys(
                name, layer, {*self.mics, *hits}, "a layer's stages listen to mics and hits"
            )
        for name, group in self.groups.items():
            _refuse_keys(
                name,
                group,
                {*self.mics, *self.groups, *hits},
                "a group's stages listen to mics, groups and hits",
            )
        for name, bus in self.buses.items():
            _refuse_keys(
                name,
                bus,
                {*self.mics, *self.groups, *hits},
                "a bus's stages listen to mics, groups and hits",
            )
        _refuse_keys(
            "the drum bus",
            self.drum_bus,
            {*sources, *hits},
            "the drum bus's stages listen to mics, groups, buses and hits",
        )
        return self

    @model_validator(mode="after")
    def _differences_hold(self) -> "Sheet":
        if self.over:
            refuse(self, with_values)
        return self

    @model_validator(mode="after")
    def _comp_holds_together(self) -> "Sheet":
        if self.comp:
            places = [s.at for s in self.comp]
            if places[0] != 0 or places != sorted(set(places)):
                raise ValueError("the comp begins at sample 0 and goes on in order")
        numbers = [t.number for t in self.takes]
        if len(set(numbers)) < len(numbers):
            raise ValueError("two takes have one number")
        used = {s.take for s in self.comp} | {c.take for c in self.copies}
        if missing := used - {t.number for t in self.takes}:
            raise ValueError(f"there is no take {min(missing)}")
        return self


def dump(sheet: Sheet) -> str:
    """The sheet as JSON, the same bytes for the same sheet."""
    return json.dumps(sheet.model_dump(mode="json"), sort_keys=True, separators=(",", ":"))


def load(text: str) -> Sheet:
    """The sheet of a JSON document; raises `SheetError` that names the first thing wrong."""
    try:
        document = json.loads(text)
        version = document.get("version", 1)
    except (ValueError, AttributeError, RecursionError):
        raise SheetError("it is no sheet.") from None
    if version not in range(1, SCHEMA_VERSION + 1):
        raise SheetError(
            f"it was written by another version (sheet version {version}, this one "
            f"reads {SCHEMA_VERSION}). Update Arkund."
        )
    try:
        if version != SCHEMA_VERSION:
            return Sheet.model_validate(upgraded(document))
        return Sheet.model_validate_json(text)
    except ValidationError as error:
        raise SheetError(first_complaint(error)) from None


def _refuse_keys(name: str, channel: Channel, known: Container[str], rule: str) -> None:
    """Raises `ValueError` where a stage listens to what is not there or comes later."""
    for stage in channel.chain:
        key = stage.listens
        if key is not None and key.source and key.source not in known:
            own = "" if stage.id == getattr(stage, "kind", "") else f" {stage.id}"
            raise ValueError(
                f"the {stage.label}{own} of {name} cannot listen to {key.source}; {rule}"
            )


def bus_order(buses: Mapping[str, Bus]) -> list[str]:
    """Buses so that each comes after those that it takes from; raises `ValueError` that names a
    bus that feeds itself and the way round."""
    done: list[str] = []
    left = dict(buses)
    while left:
        ready = [n for n, bus in left.items() if not any(s in left for s in bus.sends)]
        if not ready:
            raise ValueError(f"the bus {_round(left)}: a bus cannot feed itself")
        done += ready
        for name in ready:
            del left[name]
    return done


def _round(buses: Mapping[str, Bus]) -> str:
    """A way round through buses that feed each other, in words."""
    name = next(iter(buses))
    way = [name]
    while True:
        name = next(s for s in buses[name].sends if s in buses)
        if name in way:
            loop = way[way.index(name) :]
            return " takes from ".join([*loop, name])
        way.append(name)


def json_schema() -> dict[str, Any]:
    """JSON Schema of the sheet."""
    return Sheet.model_json_schema()
