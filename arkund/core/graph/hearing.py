"""Who hears each channel: chains on the way from it to the drum bus.

A chain that hears others must begin before the sound that is asked for, and what it hears must be
there by then; what it delays must be there for longer. Both add up from the drum bus backwards.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache
from typing import NamedTuple

from arkund.core.graph.settling import ALONE, Settling
from arkund.core.process.stage import Processor, processor_of
from arkund.core.sheet.channels import DRUM_BUS, Channel
from arkund.core.sheet.sheet import Sheet


class Heard(NamedTuple):
    """Those that hear what comes ``behind`` a channel's chain, and what is ``entering`` it."""

    behind: Settling
    entering: Settling


NEAR = Heard(ALONE, ALONE)


def hearings(sheet: Sheet, versions: Callable[[str], Sequence[Channel]]) -> Callable[[str], Heard]:
    """Who hears each channel, by path; ``versions`` are those of a channel over all bars."""

    listening = _listening(sheet)

    @cache
    def behind(path: str) -> Settling:
        hearing = _hearing(sheet, path, listening)
        return Settling.worst([entering(one) for one in hearing]).stepped(sheet.rate)

    @cache
    def entering(path: str) -> Settling:
        rows = [_row(channel, sheet.rate) for channel in versions(path)]
        return Settling.worst([behind(path).after(row) for row in rows])

    return lambda path: Heard(behind(path), entering(path))


def _row(channel: Channel, rate: int) -> list[Processor]:
    """What a channel runs: its stages, and the filters through which they listen."""
    row: list[Processor] = []
    for stage in channel.chain:
        if not stage.is_transparent:
            row.append(processor_of(stage, rate))
            if stage.listens and stage.listens.is_filtered:
                row.append(stage.listens.filters(rate))
    return row


def _hearing(sheet: Sheet, path: str, listening: Mapping[str, list[str]]) -> Iterator[str]:
    """The channels that hear a channel."""
    table, _, name = path.partition(".")
    if table == DRUM_BUS:
        return
    own = sheet.mics.get(name) or sheet.layers.get(name)
    to = own.to if own else None
    yield f"groups.{to}" if to in sheet.groups else DRUM_BUS
    for bus, settings in sheet.buses.items():
        if name in settings.sends:
            yield f"buses.{bus}"
    if to in sheet.groups:
        yield from listening.get(to, ())


def _listening(sheet: Sheet) -> dict[str, list[str]]:
    """The groups and buses with a stage that listens to a source, which a group is as its members come
    in."""
    found: dict[str, list[str]] = {}
    for table in ("groups", "buses"):
        for name, channel in getattr(sheet, table).items():
            for source in {s.listens.source for s in channel.chain if s.listens}:
                found.setdefault(source, []).append(f"{table}.{name}")
    return found
