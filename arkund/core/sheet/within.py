"""Changes within channels, of which only the channels that they touch are checked again."""

from typing import Any, TypeVar

from pydantic import BaseModel, ValidationError

from arkund.core.errors import SheetError
from arkund.core.sheet.channels import CHANNELS, Channel
from arkund.core.sheet.complaints import complaint
from arkund.core.sheet.paths import Patch, RefusedValue, no_such, put

Sheet = TypeVar("Sheet", bound=BaseModel)


def apply_within(sheet: Sheet, patch: Patch) -> Sheet:
    """`apply_patch` of values within channels (mics, layers, groups, buses, the drum bus) that say
    nothing of other channels: only the channels that it touches are checked again, which takes a
    twentieth of the time. Raises `SheetError`."""
    changes: dict[tuple[str, str], dict[str, Any]] = {}
    for path, value in patch.items():
        table, _, rest = path.partition(".")
        name = rest.partition(".")[0] if table in CHANNELS else ""
        changes.setdefault((table, name), {})[path] = value
    for (table, name), values in changes.items():
        channel = getattr(sheet, table, {}).get(name) if name else getattr(sheet, table, None)
        if not isinstance(channel, Channel):
            raise no_such(next(iter(values)))
        plain = channel.model_dump(mode="json")
        document: Any = {table: {name: plain} if name else plain}
        for path, value in values.items():
            put(document, path, value)
        try:
            made = type(channel).model_validate(document[table][name] if name else document[table])
        except ValidationError as error:
            where, said = complaint(error)
            raise RefusedValue(".".join(p for p in (table, name, where) if p), said) from None
        update = {table: {**getattr(sheet, table), name: made} if name else made}
        sheet = sheet.model_copy(update=update)
    return sheet


def with_values(sheet: Sheet, values: Patch) -> Sheet:
    """The sheet with values within channels at paths, checked; raises `ValueError` in one sentence."""
    try:
        return apply_within(sheet, values)
    except SheetError as error:
        raise ValueError(str(error).rstrip(".")) from None
