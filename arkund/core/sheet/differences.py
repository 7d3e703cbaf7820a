"""Differences: values that are other over some bars of the song.

A channel with differences is rendered in as many variants as the song has of it, and one fades into
the other where bars begin or end. Both sides of such a fade run all the while, so nothing clicks,
whatever it is that differs: a level, a frequency, a stage that is bypassed.
"""

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Protocol, Self, TypeVar

from pydantic import BaseModel, Field, StrictBool

from arkund.core.process import values
from arkund.core.process.stage import Id
from arkund.core.process.values import Part, text
from arkund.core.sheet.channels import CHANNELS
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.tempo import Timed, grid_of

MOST = 500
_SPAN = "[0-9]{1,5}(-[0-9]{1,5})?"


class Over(Part):
    """A value that the path has over ``bars`` (first and last, ``"9-16"``, or one; several with commas),
    or, where it is ``by``, so much more than what it has elsewhere; come to within ``ramp_ms`` of their
    beginning and left within as much of their end. Later ones go before. Those of one ``scene`` go
    together (`core/sheet/scenes.py`)."""

    id: Id
    path: str = Field(max_length=200, title="what differs")
    bars: str = text("1", "bars", pattern=f"^{_SPAN}(, ?{_SPAN}){{0,31}}$")
    ramp_ms: float = values.value(
        50.0, 1, 2000, "ms", "ramp", scale="log", step=1.08, ticks=(1, 10, 100, 1000)
    )
    # Strict, lest 0 and 1 dB be taken for off and on.
    value: StrictBool | float | str = Field(title="value", union_mode="left_to_right")
    by: bool = values.switch(False, "by so much")
    scene: str = text("", "scene", pattern=r"^(\w[\w -]{0,23})?$")
    follows: bool = values.switch(False, "moves with its section")

    @property
    def spans(self) -> list[tuple[int, int]]:
        """First and last bar wherever it holds."""
        parts = [one.strip().partition("-") for one in self.bars.split(",")]
        return [(int(first), int(last or first)) for first, _, last in parts]

    @property
    def channel(self) -> str:
        """Path of the channel in which the value stands: ``mics.snare_top``, ``drum_bus``."""
        steps = self.path.split(".")
        return ".".join(steps[:2]) if steps[0] in CHANNELS else steps[0]


def value_of(sheet: "Differing", over: Over) -> bool | float | str:
    """What a value is over its bars: as it is said, or so much more than the song's own, within the ends that
    it has. What is shut stays shut. Raises `ValueError` where what differs is no number."""
    if not over.by:
        return over.value
    *steps, name = over.path.split(".")
    part = part_at(sheet, steps)
    now, more = getattr(part, name, None), over.value
    if not all(isinstance(one, (int, float)) and not isinstance(one, bool) for one in (now, more)):
        raise ValueError(f"{over.path[:80]} is no number that could be changed by an amount")
    assert isinstance(now, (int, float))
    if now <= OFF_DB and name.endswith("db"):
        return now
    limits = type(part).model_fields[name].metadata if isinstance(part, BaseModel) else []
    low = max((m.ge for m in limits if hasattr(m, "ge")), default=-math.inf)
    high = min((m.le for m in limits if hasattr(m, "le")), default=math.inf)
    return float(min(max(now + float(more), low), high))


def part_at(sheet: Any, steps: Sequence[str]) -> Any:
    """What holds a value: through tables by name, through lists by id; None where there is nothing."""
    found = sheet
    for step in steps:
        if isinstance(found, Mapping):
            found = found.get(step)
        elif isinstance(found, tuple):
            found = next((one for one in found if getattr(one, "id", None) == step), None)
        else:
            found = getattr(found, step, None)
    return found


class Differing(Timed, Protocol):
    """What has differences: a sheet."""

    @property
    def rate(self) -> int: ...
    @property
    def frames(self) -> int: ...
    @property
    def over(self) -> tuple[Over, ...]: ...
    def model_copy(
        self, *, update: Mapping[str, Any] | None = None, deep: bool = False
    ) -> Self: ...


Some = TypeVar("Some", bound=Differing)


def refuse(sheet: Some, apply: Callable[[Some, dict[str, Any]], Some]) -> None:
    """Raise `ValueError` for a difference in what no channel has, of a value that is not taken
    there, or over bars that the song does not have."""
    plain = sheet.model_copy(update={"over": ()})
    bars = grid_of(sheet).bars_in(sheet.frames / sheet.rate)
    seen: set[str] = set()
    for over in sheet.over:
        if over.id in seen:
            raise ValueError(f"two differences have the id {over.id}")
        seen.add(over.id)
        for first, last in over.spans:
            if not 1 <= first <= last:
                raise ValueError(f"the difference {over.id} has no bars: {over.bars}")
            if last > bars:
                raise ValueError(
                    f"the difference {over.id} ends in bar {last}; the song has {bars}"
                )
        if not _may_differ(over.path):
            raise ValueError(f"{over.path[:80]} is the same throughout the song")
    try:
        rounds = _rounds(plain, sheet.over)
    except ValueError as error:
        raise ValueError(f"a difference over bars does not hold: {error}") from None
    for values_at_once in rounds:
        try:
            apply(plain, values_at_once)
        except ValueError as error:
            raise ValueError(f"a difference over bars does not hold: {error}") from None


def freed(sheet: Differing, patch: Mapping[str, Any]) -> dict[str, Any]:
    """What goes along with the entries that a patch takes away: differences of what is within them."""
    gone = [path for path, value in patch.items() if value is None]
    return {
        f"over.{over.id}": None
        for over in sheet.over
        for path in gone
        if over.path == path or over.path.startswith(f"{path}.")
    }


def _rounds(plain: Differing, differences: Sequence[Over]) -> list[dict[str, Any]]:
    """All values, so that each path stands once in each dictionary: few sheets to try."""
    out: list[dict[str, Any]] = []
    for over in differences:
        free = next((r for r in out if over.path not in r), None)
        if free is None:
            free = {}
            out.append(free)
        free[over.path] = value_of(plain, over)
    return out


def _may_differ(path: str) -> bool:
    """Chains, faders, mutes, pans, sends and gates may; who a mic is and where it stands may not."""
    steps = path.split(".")
    if steps[0] == "drum_bus":
        return len(steps) > 1
    if steps[0] not in CHANNELS or len(steps) < 3:
        return False
    varied = ("chain", "fader_db", "mute", "pan", "sends", "clean", "trim_db", "polarity")
    return steps[2] in varied and steps[-1] not in ("after", "source", "kind", "id")
