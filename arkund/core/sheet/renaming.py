"""A bus or group by another name: everything that names it follows."""

from typing import Any

from arkund.core.errors import SheetError
from arkund.core.sheet.channels import Channel
from arkund.core.sheet.paths import Patch
from arkund.core.sheet.sheet import Sheet

KINDS = {"buses": "bus", "groups": "group"}
"""What can be renamed; mics and layers are called by their role."""


def as_name(text: str) -> str:
    """What an engineer types as a channel is called: small letters, ``_`` for spaces."""
    return "_".join(text.lower().replace("-", " ").split())


def renamed(sheet: Sheet, channel: str, name: str) -> Patch:
    """The change that calls a channel (``buses.strike``, ``groups.toms``) by another ``name``, with
    all that runs into it, takes from it, listens to it, or differs over bars in it.

    Raises `SheetError` where there is no such channel. Whether the name can be had is for the sheet to
    say when the change is made.
    """
    kind, _, old = channel.partition(".")
    table: dict[str, Channel] = dict(getattr(sheet, kind)) if kind in KINDS else {}
    if old not in table:
        raise SheetError(f"There is no bus or group “{channel[:80]}” to rename.")
    if name == old:
        return {}
    if name in table:
        raise SheetError(f"A {KINDS[kind]} is called {name} already.")
    patch: dict[str, Any] = {f"{kind}.{name}": table[old].model_dump(mode="json")}
    if kind == "groups":
        for feeders in ("mics", "layers"):
            patch |= {
                f"{feeders}.{one}.to": name
                for one, lane in getattr(sheet, feeders).items()
                if lane.to == old
            }
    for bus, settings in sheet.buses.items():
        if old in settings.sends:
            send = settings.sends[old].model_dump(mode="json")
            patch |= {f"buses.{bus}.sends.{name}": send, f"buses.{bus}.sends.{old}": None}
    patch |= {path: name for path in _listening(sheet, old)}
    for over in sheet.over:
        if over.path.startswith(f"{channel}."):
            path = f"{kind}.{name}{over.path[len(channel) :]}"
            patch[f"over.{over.id}"] = {**over.model_dump(mode="json"), "path": path}
    # What stands in the channel itself moves with it, under its new name.
    moved = {
        f"{kind}.{name}{path[len(channel) :]}" if path.startswith(f"{channel}.") else path: value
        for path, value in patch.items()
    }
    return moved | {channel: None}


def _listening(sheet: Sheet, source: str) -> list[str]:
    """Paths of the keys of all stages that listen to a channel."""
    channels: list[tuple[str, Channel]] = [("drum_bus", sheet.drum_bus)]
    for kind in ("mics", "layers", "groups", "buses"):
        channels += [(f"{kind}.{name}", one) for name, one in getattr(sheet, kind).items()]
    return [
        f"{path}.chain.{stage.id}.key.source"
        for path, channel in channels
        for stage in channel.chain
        if (key := stage.listens) is not None and key.source == source
    ]
