"""Who hears each channel: chains on the way from it to the drum bus.

A chain that hears others must begin before the sound that is asked for, and what it hears must be
there by then; what it delays must be there for longer. Both add up from the drum bus backwards.
"""

from collections.abc import Callable, Iterator, Sequence
from functools import cache
from typing import NamedTuple

from arkund.core.mix.channels import DRUM_BUS, Channel
from arkund.core.mix.settling import ALONE, Settling
from arkund.core.mix.sheet import Sheet
from arkund.core.process.stage import Processor


class Heard(NamedTuple):
    """Those that hear what comes ``behind`` a channel's chain, and what is ``entering`` it."""

    behind: Settling
    entering: Settling


NEAR = Heard(ALONE, ALONE)


def hearings(sheet: Sheet, versions: Callable[[str], Sequence[Channel]]) -> Callable[[str], Heard]:
    """Who hears each channel, by path; ``versions`` are those of a channel over all bars."""

    @cache
    def behind(path: str) -> Settling:
        return Settling.worst([entering(one) for one in _hearing(sheet, path)]).stepped(sheet.rate)

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
            row.append(stage.process(rate))
            if stage.listens and stage.listens.is_filtered:
                row.append(stage.listens.filters(rate))
    return row


def _hearing(sheet: Sheet, path: str) -> Iterator[str]:
    """The channels that hear a channel."""
    table, _, name = path.partition(".")
    if table == DRUM_BUS:
        return
    to = getattr(sheet.mics.get(name) or sheet.layers.get(name), "to", None)
    yield f"groups.{to}" if to in sheet.groups else DRUM_BUS
    for bus, settings in sheet.buses.items():
        if name in settings.sends:
            yield f"buses.{bus}"
    if to in sheet.groups:
        yield from _listening(sheet, to)


def _listening(sheet: Sheet, source: str) -> Iterator[str]:
    """The groups and buses with a stage that listens to a group as its members come in."""
    for table in ("groups", "buses"):
        for name, channel in getattr(sheet, table).items():
            if any(stage.listens and stage.listens.source == source for stage in channel.chain):
                yield f"{table}.{name}"
