"""Schools: named families of defaults, row by row.

A row is a question on which engineers differ; a school answers each. Every finding that rests on
a default names the row that it comes from, and an engineer may answer any row otherwise.
"""

from dataclasses import dataclass
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from arkund.core.errors import ArkundError
from arkund.core.sheet.complaints import complaint


class School(BaseModel):
    """The answers of one school. ``name`` is what findings call it."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = Field(min_length=1, max_length=40)
    timing: Literal["exact", "feel", "untouched"]
    toms: Literal["strip", "tuck", "leave"]
    snare: Literal["hits", "tuck", "off"]
    other_gates: Literal["hits", "if_needed", "off"]
    alignment: Literal["overheads", "pairs", "polarity"]
    rooms: Literal["drawn_in", "late"]
    overheads: Literal["cymbals", "kit", "lead"]
    trim: Literal["full", "cool"]
    balance: Literal["kick_and_snare", "overheads"]
    order: Literal["mics_first", "bus_first"]
    eq: Literal["bold", "cut_first", "called_for"]
    parallel: Literal["strike_bloom", "strike", "glue"]
    goal: Literal["punch", "punch_size", "size"]

    @property
    def is_sparing(self) -> bool:
        """Whether it does only what a finding calls for: a goal that is met calls for nothing."""
        return self.eq == "called_for"

    @field_validator("parallel", "snare", "other_gates", mode="before")
    @classmethod
    def _by_present_names(cls, value: object) -> object:
        """Rows that were stored under the buses' first names, or when hits were called strokes."""
        first = {"punch_sustain": "strike_bloom", "punch": "strike", "strokes": "hits"}
        return first.get(value, value) if isinstance(value, str) else value


TIGHT = School(
    name="Tight",
    timing="exact",
    toms="strip",
    snare="hits",
    other_gates="hits",
    alignment="overheads",
    rooms="drawn_in",
    overheads="cymbals",
    trim="full",
    balance="kick_and_snare",
    order="mics_first",
    eq="bold",
    parallel="strike_bloom",
    goal="punch",
)
NATURAL = School(
    name="Natural",
    timing="feel",
    toms="tuck",
    snare="tuck",
    other_gates="if_needed",
    alignment="pairs",
    rooms="late",
    overheads="kit",
    trim="full",
    balance="overheads",
    order="mics_first",
    eq="cut_first",
    parallel="strike",
    goal="punch_size",
)
OPEN = School(
    name="Open",
    timing="untouched",
    toms="leave",
    snare="off",
    other_gates="off",
    alignment="polarity",
    rooms="late",
    overheads="lead",
    trim="cool",
    balance="overheads",
    order="bus_first",
    eq="called_for",
    parallel="glue",
    goal="size",
)
SCHOOLS: dict[str, School] = {"tight": TIGHT, "natural": NATURAL, "open": OPEN}


@dataclass(frozen=True)
class Row:
    """A question and the words of its answers."""

    key: str
    question: str
    answers: dict[str, str]


ROWS: tuple[Row, ...] = (
    Row(
        "timing",
        "Timing",
        {"exact": "exact, 100 %", "feel": "feel, strays only", "untouched": "untouched"},
    ),
    Row(
        "toms",
        "Bleed in toms",
        {"strip": "strip (−40 dB)", "tuck": "tuck (−15 dB)", "leave": "leave"},
    ),
    Row(
        "snare",
        "Snare top gate",
        {"hits": "on hits, ghosts kept gently", "tuck": "tuck (−12 dB)", "off": "off"},
    ),
    Row(
        "other_gates",
        "Snare bottom and kick gate",
        {"hits": "on hits", "if_needed": "only if bleed asks for it", "off": "off"},
    ),
    Row(
        "alignment",
        "Time alignment",
        {
            "overheads": "close mics onto overheads",
            "pairs": "kick pair and snare pair only",
            "polarity": "polarity only",
        },
    ),
    Row("rooms", "Rooms", {"drawn_in": "drawn in", "late": "left late"}),
    Row(
        "overheads",
        "Overheads are",
        {
            "cymbals": "cymbals (high-pass 300–600 Hz)",
            "kit": "the whole kit (40–120 Hz)",
            "lead": "the whole kit, lead the balance",
        },
    ),
    Row("trim", "Trim", {"full": "full (−10 to −6 dBFS)", "cool": "cool (−15 to −12 dBFS)"}),
    Row(
        "balance",
        "Balance starts from",
        {"kick_and_snare": "kick and snare", "overheads": "overheads"},
    ),
    Row("order", "Work order", {"mics_first": "mics, then bus", "bus_first": "bus first"}),
    Row(
        "eq",
        "EQ",
        {
            "bold": "bold boosts at the landmarks",
            "cut_first": "cut first, boost a little",
            "called_for": "only what a finding calls for",
        },
    ),
    Row(
        "parallel",
        "Parallel",
        {
            "strike_bloom": "strike and bloom",
            "strike": "strike",
            "glue": "none; glue on the drum bus",
        },
    ),
    Row("goal", "Goal", {"punch": "punch", "punch_size": "punch, some size", "size": "size"}),
)


def school_of(rows: dict[str, object]) -> School:
    """A school from stored or sent rows; raises `ArkundError` that names the first row wrong."""
    try:
        return School.model_validate(rows)
    except ValidationError as error:
        where, said = complaint(error)
        raise ArkundError(f"The school's row “{where or 'school'}” was refused: {said}") from None


def school_named(name: str) -> School:
    """Tight, Natural or Open by name in any case; raises `ArkundError` otherwise."""
    found = SCHOOLS.get(name.strip().lower())
    if found is None:
        raise ArkundError(f"There is no school “{name}”. Schools are: {', '.join(SCHOOLS)}.")
    return found
