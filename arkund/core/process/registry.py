"""Every processor there is. A new one is its module and a name in this list."""

from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import Field

from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.limiter import Limiter
from arkund.core.process.room import Room
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import Stage
from arkund.core.process.transient import Transient
from arkund.core.process.values import described

PROCESSORS: tuple[type[Stage], ...] = (
    Equaliser,
    Transient,
    Compressor,
    Saturation,
    Limiter,
    Room,
)

if TYPE_CHECKING:
    AnyStage = Stage
else:
    AnyStage = Annotated[reduce(or_, PROCESSORS), Field(discriminator="kind")]
"""A stage of any kind, told by its ``kind``."""

BY_KIND: dict[str, type[Stage]] = {
    str(processor.model_fields["kind"].default): processor for processor in PROCESSORS
}


def catalogue() -> list[dict[str, Any]]:
    """Every processor with its values, as `arkund processors` prints them: name, unit, range,
    default, label; ``choices`` where a value has no range. Values of parts within (an EQ's filters
    and bands) have dotted names."""
    return [
        {
            "kind": kind,
            "label": processor.label,
            "about": processor.about,
            "values": _values(processor),
        }
        for kind, processor in BY_KIND.items()
    ]


def _values(processor: type[Stage]) -> list[dict[str, Any]]:
    out = []
    for prefix, part in parts_of(processor).items():
        for v in described(part).values():
            one: dict[str, Any] = {
                "name": prefix + v.name,
                "unit": v.unit,
                "default": v.default,
                "label": v.label,
            }
            out.append(
                one
                | ({"low": v.low, "high": v.high} if v.is_number else {"choices": list(v.choices)})
            )
    return out


def parts_of(processor: type[Stage]) -> dict[str, Any]:
    """A processor and the parts within it by their place in paths: ``{"": Equaliser, "high_pass.":
    Filter, "bands.*.": Band}``."""
    out: dict[str, Any] = {"": processor}
    for name, field in processor.model_fields.items():
        kind = field.annotation
        if isinstance(kind, type) and hasattr(kind, "model_fields"):
            out[f"{name}."] = kind
        elif inner := [a for a in getattr(kind, "__args__", ()) if hasattr(a, "model_fields")]:
            out[f"{name}.*."] = inner[0]
    return out
