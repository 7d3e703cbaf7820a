"""One value of a setting, said once: range, unit, name and how it is shown.

`value`, `switch` and `choice` make pydantic fields; `described` reads back what was said, from
which rulers, words of the log, the command line, the JSON schema and docs/settings.md are derived.
"""

from dataclasses import dataclass
from types import UnionType
from typing import Any, Literal, Union, get_args, get_origin

from pydantic import BaseModel, ConfigDict, Field

Scale = Literal["lin", "log"]


class Part(BaseModel):
    """Base of all that a sheet is made of: immutable, without unknown keys or numbers that are
    none."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


@dataclass(frozen=True)
class Value:
    """All that anyone asks about one setting.

    ``shown`` are the ruler's ends, ``step`` what an arrow key moves (a factor on a ``log`` scale),
    ``ticks`` the values written under it, ``hint`` a line beneath; ``carried``: moves with the trim
    before it. ``choices`` are the words or numbers of a value that has no range.
    """

    name: str
    label: str
    unit: str
    default: Any
    low: float | None = None
    high: float | None = None
    shown: tuple[float, float] | None = None
    scale: Scale = "lin"
    step: float = 0.5
    ticks: tuple[float, ...] = ()
    hint: str = ""
    carried: bool = False
    choices: tuple[Any, ...] = ()

    @property
    def is_number(self) -> bool:
        """Whether it has a range and so a ruler."""
        return self.low is not None

    @property
    def ends(self) -> tuple[float, float]:
        """The ruler's ends."""
        assert self.low is not None
        assert self.high is not None
        return self.shown or (self.low, self.high)


def value(
    default: float,
    low: float,
    high: float,
    unit: str,
    label: str,
    *,
    shown: tuple[float, float] | None = None,
    scale: Scale = "lin",
    step: float = 0.5,
    ticks: tuple[float, ...] = (),
    hint: str = "",
    carried: bool = False,
) -> Any:
    """A number's field: its range in ``unit``, its name in ``label``, the rest as in `Value`."""
    said: Any = {
        "unit": unit,
        "shown": shown and list(shown),
        "scale": scale,
        "step": step,
        "ticks": list(ticks),
        "hint": hint,
        "carried": carried,
    }
    return Field(default, ge=low, le=high, title=label, json_schema_extra=said)


def time_ms(
    default: float,
    low: float,
    high: float,
    label: str,
    *,
    shown: tuple[float, float] | None = None,
    step: float = 1.06,
    ticks: tuple[float, ...] = (),
    hint: str = "",
) -> Any:
    """A time's field, in ms: an arrow key moves it by a factor ``step``, since what is heard is its ratio."""
    return value(
        default, low, high, "ms", label, shown=shown, scale="log", step=step, ticks=ticks, hint=hint
    )


def switch(default: bool, label: str) -> Any:
    """The field of something that is on or off."""
    return Field(default, title=label)


def choice(default: Any, label: str, unit: str = "", *, hint: str = "") -> Any:
    """The field of one of several words or numbers."""
    said: Any = {"unit": unit} | ({"hint": hint} if hint else {})
    return Field(default, title=label, json_schema_extra=said)


def text(default: str, label: str, *, pattern: str) -> Any:
    """The field of a name that follows a pattern."""
    return Field(default, title=label, pattern=pattern)


def described(part: type[Part]) -> dict[str, Value]:
    """The values of a part by name, in their order, without those of its own parts."""
    out = {}
    for name, field in part.model_fields.items():
        if field.title is None:
            continue
        said = field.json_schema_extra if isinstance(field.json_schema_extra, dict) else {}
        limits = {
            key: getattr(m, key) for m in field.metadata for key in ("ge", "le") if hasattr(m, key)
        }
        said = dict(said)
        shown: Any = said.pop("shown", None)
        ticks: Any = said.pop("ticks", ())
        unit = str(said.pop("unit", ""))
        out[name] = Value(
            name,
            field.title,
            unit,
            field.default,
            limits.get("ge"),
            limits.get("le"),
            tuple(shown) if shown else None,
            ticks=tuple(ticks),
            choices=_choices(field.annotation),
            **said,  # type: ignore[arg-type]
        )
    return out


def _choices(annotation: Any) -> tuple[Any, ...]:
    if annotation is bool:
        return (False, True)
    if get_origin(annotation) is Literal:
        return get_args(annotation)
    if get_origin(annotation) in (Union, UnionType):
        return tuple(c for a in get_args(annotation) for c in _choices(a))
    return ()
