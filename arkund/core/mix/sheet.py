"""The sheet: the whole settings document of the mix.

With the source audio it is the only input of rendering. Immutable, versioned, unknown keys
refused. Every default passes sound through untouched, so a field that is added later leaves old
sheets sounding as they did. Units stand in the names: dB, ms, Hz, samples.
"""

import json
from itertools import accumulate
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator

from arkund.core.errors import SheetError
from arkund.core.kit.roles import MicName, Role, parse_mic_name

SCHEMA_VERSION = 1
OFF_DB = -90.0
"""A fader, send or blend at this value is shut."""

MOST_MICS = 64
LAST_BAR = 20_000
LONGEST_FRAMES = 2_000_000_000
"""More than an hour at the highest rate that is taken."""

Db = Annotated[float, Field(ge=-24, le=24)]
FaderDb = Annotated[float, Field(ge=OFF_DB, le=12)]
Bar = Annotated[int, Field(ge=1, le=LAST_BAR)]
Frame = Annotated[int, Field(ge=0, le=LONGEST_FRAMES)]
Hash = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]
"""Names a stored file by its content."""

Name = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,31}$")]
"""The one rule for names of lanes: they become names of files and parts of paths."""

StrokeId = Annotated[str, Field(pattern=r"^[A-Za-z0-9][A-Za-z0-9_-]{0,47}$")]
SongSeconds = Annotated[float, Field(ge=-60, le=100_000)]
Quarters = Annotated[float, Field(ge=-1_000, le=1_000_000)]
Words = Annotated[str, Field(pattern=r"^[^\x00-\x1f\x7f]*$")]
"""What an engineer calls a thing: any letters on one line."""

NODES = ("output", "sum", "song", "drums", "bed", "reference")
"""Names of what can be heard besides mics and buses; no bus may take one."""


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class TempoChange(_Part):
    """From the beginning of ``bar`` on: this tempo and meter."""

    bar: Bar = Field(ge=2)
    bpm: float = Field(ge=20, le=400)
    beats: int = Field(4, ge=1, le=32)
    unit: Literal[2, 4, 8, 16] = 4


class Tempo(_Part):
    """The tempo map; bar 1 begins at ``first_downbeat_s``. Changes by rising bar, each holding
    until the next; without any the tempo is constant."""

    bpm: float = Field(120.0, ge=20, le=400)
    beats: int = Field(4, ge=1, le=32)
    unit: Literal[2, 4, 8, 16] = 4
    first_downbeat_s: float = Field(0.0, ge=-60, le=600)
    changes: tuple[TempoChange, ...] = Field((), max_length=LAST_BAR)

    @model_validator(mode="after")
    def _changes_in_order(self) -> "Tempo":
        bars = [c.bar for c in self.changes]
        if bars != sorted(set(bars)):
            raise ValueError("tempo changes stand in order, one to a bar")
        return self


class Section(_Part):
    """A named run of bars, the first of them 1-based."""

    name: Words = Field(min_length=1, max_length=40)
    start_bar: Bar
    bars: Bar


class Source(_Part):
    """The sound of one mic in one take: content hash of the stored file and what is taken of it."""

    sha256: Hash
    pick: Literal["mono", "left", "right", "sum"] = "mono"


class Correction(_Part):
    """What an ear changed about one stroke of the hit list, by its id; an id that the list does
    not have adds a stroke. Times in s in the take's files."""

    gone: bool = False
    piece: str | None = Field(None, pattern=r"^[a-z]+(_[0-9]+)?$")
    time_s: float | None = Field(None, ge=0, le=100_000)
    velocity: int | None = Field(None, ge=1, le=127)
    kind: Literal["accent", "plain", "ghost", "flam", "roll"] | None = None


class Take(_Part):
    """One pass through the song; ``hits`` is the content hash of its hit list."""

    number: int = Field(ge=1, le=999)
    sources: dict[Name, Source] = Field(max_length=MOST_MICS)
    hits: Hash | None = None
    analysis: Hash | None = None
    """Content hash of what was measured: delays between mics, levels. Rendering does not read it."""
    corrections: dict[StrokeId, Correction] = Field({}, max_length=100_000)
    offset: int = Field(0, ge=-100_000_000, le=100_000_000)
    """Samples by which the take's files run ahead of the song: its bar 1 lies that much later."""


class Stretch(_Part):
    """From sample ``at`` of the song on, until the next stretch, this take sounds; it comes in
    over ``fade_ms`` that end at ``at``. ``shape`` *power* suits takes that know nothing of each
    other, *level* sounds that are alike."""

    take: int = Field(ge=1)
    at: Frame
    fade_ms: float = Field(2.0, ge=0.1, le=200)
    shape: Literal["power", "level"] = "power"


class Copy(_Part):
    """``frames`` samples of a take, from its sample ``source`` in the song's time on, laid over
    the song at sample ``at`` in all mics."""

    take: int = Field(ge=1)
    source: int = Field(ge=-100_000_000, le=LONGEST_FRAMES)
    at: Frame
    frames: int = Field(ge=16, le=LONGEST_FRAMES)
    fade_ms: float = Field(2.0, ge=0.1, le=200)
    shape: Literal["power", "level"] = "power"
    label: Words = Field("", max_length=80)


class TimingRule(_Part):
    """How a run of bars is put in time. Later rules override earlier ones."""

    start_bar: Bar = 1
    bars: Bar = 1
    school: Literal["exact", "feel"] = "feel"
    division: Literal["1/4", "1/8", "1/8t", "1/16", "1/16t", "1/32"] = "1/16"
    strength: float = Field(1.0, ge=0, le=1)
    window_ms: float = Field(0.0, ge=0, le=60)
    swing: float = Field(0.5, ge=0.5, le=0.75)


class Timing(_Part):
    """What is wanted of the strokes' places: rules by span; single strokes by hit id put at a
    time (s in the song), or told the line on which they were meant (quarters since bar 1); how far
    the kick's close mics may follow the snare alone."""

    rules: tuple[TimingRule, ...] = Field((), max_length=500)
    to_s: dict[StrokeId, SongSeconds] = Field({}, max_length=100_000)
    lines: dict[StrokeId, Quarters] = Field({}, max_length=100_000)
    kick_alone_ms: float = Field(0.0, ge=0, le=15)


class ClipGain(_Part):
    """A gain over one stroke: from sample ``at`` for ``frames``, eased in and out over 2 ms."""

    at: Frame
    frames: int = Field(ge=1, le=2_000_000)
    gain_db: Db = 0.0


class Run(_Part):
    """Samples lost to clipping: ``frames`` of them from sample ``at``."""

    at: Frame
    frames: int = Field(ge=1, le=64)


class Repair(_Part):
    """What is mended before anything else: a constant offset taken away, mains hum notched out
    (0 Hz: none) with its harmonics, clipped runs rebuilt, single strokes brought down."""

    dc: float = Field(0.0, ge=-0.5, le=0.5)
    hum_hz: float = Field(0.0, ge=0, le=70)
    hum_lines: int = Field(6, ge=1, le=12)
    rebuilt: tuple[Run, ...] = Field((), max_length=5_000)
    clip_gains: tuple[ClipGain, ...] = Field((), max_length=5_000)

    @model_validator(mode="after")
    def _hum_is_mains(self) -> "Repair":
        if 0 < self.hum_hz < 40:
            raise ValueError("mains hum lies between 40 and 70 Hz; 0 leaves it alone")
        return self

    @model_validator(mode="after")
    def _gains_do_not_pile_up(self) -> "Repair":
        edges = sorted([(g.at, 1) for g in self.clip_gains]
                       + [(g.at + g.frames, -1) for g in self.clip_gains])  # fmt: skip
        if max(accumulate((step for _, step in edges), initial=0)) > 4:
            raise ValueError("more than four gains lie over one stroke")
        return self


class Clean(_Part):
    """The gate. On strokes the hit list opens it ``lookahead_ms`` before each onset and for
    ``hold_ms`` after; on threshold the mic's own level does. Attack and release are the full
    travel between ``range_db`` and 0 dB."""

    on: bool = False
    opens_on: Literal["strokes", "threshold"] = "strokes"
    threshold_db: float = Field(-30.0, ge=-80, le=0)
    hysteresis_db: float = Field(6.0, ge=0, le=24)
    attack_ms: float = Field(0.5, ge=0.1, le=50)
    hold_ms: float = Field(80.0, ge=0, le=4000)
    release_ms: float = Field(150.0, ge=1, le=5000)
    range_db: float = Field(-40.0, ge=-80, le=0)
    lookahead_ms: float = Field(1.0, ge=0, le=20)


class Filter(_Part):
    """A Butterworth high- or low-pass; ``resonance`` multiplies the Q of its sharpest section."""

    on: bool = False
    frequency_hz: float = Field(60.0, ge=20, le=20000)
    slope_db_oct: Literal[6, 12, 18, 24, 36, 48] = 12
    resonance: float = Field(1.0, ge=0.5, le=4)


class Band(_Part):
    """A bell or shelf. Q 0.4 (broad) to 16 (narrow)."""

    on: bool = False
    kind: Literal["bell", "low_shelf", "high_shelf"] = "bell"
    frequency_hz: float = Field(1000.0, ge=20, le=16000)
    gain_db: Db = 0.0
    q: float = Field(1.0, ge=0.4, le=16)


def _bands() -> tuple[Band, Band, Band, Band]:
    return (
        Band(kind="low_shelf", frequency_hz=80, q=0.7),
        Band(frequency_hz=400),
        Band(frequency_hz=3000),
        Band(kind="high_shelf", frequency_hz=9000, q=0.7),
    )


class Equaliser(_Part):
    """Two filters, four bands, output gain."""

    on: bool = True
    high_pass: Filter = Filter(frequency_hz=60)
    low_pass: Filter = Filter(frequency_hz=14000)
    bands: tuple[Band, Band, Band, Band] = Field(default_factory=_bands)
    output_db: Db = 0.0


class Transient(_Part):
    """More or less attack and sustain, at most so many dB."""

    on: bool = True
    attack_db: float = Field(0.0, ge=-12, le=12)
    sustain_db: float = Field(0.0, ge=-24, le=12)


class Compressor(_Part):
    """The *straight* family: reduction smoothed in dB; times to 63 %."""

    on: bool = False
    threshold_db: float = Field(-18.0, ge=-60, le=0)
    ratio: float = Field(4.0, ge=1, le=100)
    knee_db: float = Field(6.0, ge=0, le=24)
    attack_ms: float = Field(15.0, ge=0.05, le=200)
    release_ms: float = Field(120.0, ge=1, le=5000)
    makeup_db: float = Field(0.0, ge=-12, le=24)
    mix: float = Field(1.0, ge=0, le=1)
    lookahead_ms: float = Field(0.0, ge=0, le=10)


class Mic(_Part):
    """One lane: who it is, then its settings in signal order. ``delay_samples`` positive is later.

    Pan −1 (left) to 1: constant power, −3 dB at the centre.
    """

    role: Role
    index: int | None = Field(None, ge=1, le=99)
    side: Literal["l", "r"] | None = None
    file: str = Field("", max_length=1000)
    unused: Words = Field("", max_length=200)
    """Why the mic is left out of everything; empty where it is in use."""
    overdub: bool = False
    """Recorded by itself: heard, but no part of the kit's bleed, alignment and hits."""
    distance_cm: float | None = Field(None, ge=0, le=3000)
    """Measured from its piece's head; for overheads and rooms from the snare's."""
    repair: Repair = Repair()
    trim_db: Db = 0.0
    polarity: Literal[1, -1] = 1
    delay_samples: float = Field(0.0, ge=-4800, le=4800)
    clean: Clean = Clean()
    eq: Equaliser = Equaliser()
    transient: Transient = Transient()
    compressor: Compressor = Compressor()
    mute: bool = False
    fader_db: FaderDb = 0.0
    pan: float = Field(0.0, ge=-1, le=1)

    @property
    def name(self) -> MicName:
        return MicName(self.role, self.index, self.side)


class ParallelBus(_Part):
    """A bus fed by pre-fader sends (dB per mic), compressed and blended under the rest."""

    on: bool = True
    sends: dict[Name, FaderDb] = {}
    compressor: Compressor = Compressor()
    blend_db: FaderDb = OFF_DB


class DrumBus(_Part):
    """What all mics and returns run into: glue, then level."""

    compressor: Compressor = Compressor(ratio=2, attack_ms=20, release_ms=150)
    level_db: FaderDb = 0.0


class Sheet(_Part):
    """The whole document. ``frames`` is the length of the longest mic at ``rate`` Hz."""

    version: Literal[1] = 1
    rate: int = Field(ge=8000, le=384000)
    frames: int = Field(ge=1, le=LONGEST_FRAMES)
    tempo: Tempo = Tempo()
    root_note: Literal["", "C", "C#", "D", "D#", "E", "F", "F#", "G", "G#", "A", "A#", "B"] = ""
    sections: tuple[Section, ...] = Field((), max_length=500)
    takes: tuple[Take, ...] = Field(min_length=1, max_length=99)
    comp: tuple[Stretch, ...] = Field((), max_length=500)
    copies: tuple[Copy, ...] = Field((), max_length=1_000)
    timing: Timing = Timing()
    moves: Hash | None = None
    """Content hash of the edit list that `timing` came to."""
    mics: dict[Name, Mic] = Field(min_length=1, max_length=MOST_MICS)
    parallel: dict[Name, ParallelBus] = Field({}, max_length=16)
    drum_bus: DrumBus = DrumBus()
    bed_db: FaderDb = 0.0
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
        for name in self.parallel:
            if name in self.mics or name in NODES:
                raise ValueError(f"a bus cannot be called {name}; something else is")
        return self

    @model_validator(mode="after")
    def _names_lead_somewhere(self) -> "Sheet":
        sent = {m for bus in self.parallel.values() for m in bus.sends}
        if lost := sorted((sent | {m for t in self.takes for m in t.sources}) - set(self.mics)):
            raise ValueError(f"there is no mic {lost[0]}")
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
        version = json.loads(text).get("version", SCHEMA_VERSION)
    except (ValueError, AttributeError, RecursionError):
        raise SheetError("it is no sheet.") from None
    if version != SCHEMA_VERSION:
        raise SheetError(f"it was written by another version (sheet version {version}, this one "
                         f"reads {SCHEMA_VERSION}). Update Arkund.")  # fmt: skip
    try:
        return Sheet.model_validate_json(text)
    except ValidationError as error:
        raise SheetError(first_complaint(error)) from None


def first_complaint(error: ValidationError) -> str:
    """The first thing wrong with a document, as a sentence."""
    path, said = complaint(error)
    return f"{path or 'the sheet'}: {said}"


def complaint(error: ValidationError) -> tuple[str, str]:
    """Path of the first value that is wrong (empty: the whole), and what is wrong with it."""
    first = error.errors(include_url=False)[0]
    said = first["msg"].removeprefix("Value error, ").rstrip(".")
    said = said.replace("Input should be", "it should be")
    if first["type"] != "value_error":
        said += f"; given was {str(first.get('input'))[:60]!r}"
    return ".".join(str(step) for step in first["loc"]), f"{said}."


def new_mic(name: str, file: str = "") -> Mic:
    """A mic with transparent settings; overheads and rooms panned to their sides."""
    parsed = parse_mic_name(name)
    pan = {"l": -1.0, "r": 1.0}.get(parsed.side or "", 0.0)
    return Mic(role=parsed.role, index=parsed.index, side=parsed.side, file=file, pan=pan)


def json_schema() -> dict[str, Any]:
    """JSON Schema of the sheet."""
    return Sheet.model_json_schema()
