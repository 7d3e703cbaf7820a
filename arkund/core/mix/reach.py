"""How far around what is asked for each channel is heard by the channels behind it.

A chain that hears others must begin before the sound that is asked for, and what it hears must be
there by then; what it delays must be there for longer. Both add up from the drum bus backwards.
"""

from collections.abc import Callable, Iterator, Sequence
from functools import cache
from typing import NamedTuple

from arkund.core.mix.channels import DRUM_BUS, Channel
from arkund.core.mix.nodes import latency_of, lead_of
from arkund.core.mix.sheet import Sheet
from arkund.core.process.stage import Processor

STEP_S, STEP = 0.25, 256
"""Reach is counted in steps before (seconds) and after (samples), so that a value which turns a
little leaves it as it is, and with it all that others have rendered."""

Reach = tuple[int, int]
"""Samples before and after."""


class Heard(NamedTuple):
    """How far around what is asked for it is heard what comes ``behind`` a channel's chain, and what
    is ``entering`` it."""

    behind: Reach
    entering: Reach


NEAR = Heard((0, 0), (0, 0))


def reaches(sheet: Sheet, versions: Callable[[str], Sequence[Channel]]) -> Callable[[str], Heard]:
    """How far channels are heard, by path; ``versions`` are those of a channel over all bars."""

    @cache
    def behind(path: str) -> Reach:
        found = [entering(hearing) for hearing in _hearing(sheet, path)]
        before, after = (max((f[side] for f in found), default=0) for side in (0, 1))
        step = round(STEP_S * sheet.rate)
        return -(-before // step) * step, -(-after // STEP) * STEP

    @cache
    def entering(path: str) -> Reach:
        before, after = behind(path)
        rows = [_row(channel, sheet.rate) for channel in versions(path)]
        return before + max(map(lead_of, rows)), after + max(map(latency_of, rows))

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
