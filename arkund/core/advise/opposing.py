"""Moves that work against each other on one channel's way to the mix: EQ against EQ, level against level."""

import itertools
from collections.abc import Iterator
from dataclasses import dataclass

from arkund.core.advise.eq.ears import net_curve
from arkund.core.kit.roles import label
from arkund.core.sheet.channels import DRUM_BUS
from arkund.core.sheet.lanes import sounding_mics
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet

LEVEL_DB = 3.0
"""A fader that is down and the next one up by at least so much could both be nearer to nothing."""


@dataclass(frozen=True)
class Opposing:
    """Two moves against each other on the way of ``mic``, in a sentence, and the ``station`` where they are set."""

    mic: str
    station: str
    words: str


def opposing(sheet: Sheet) -> list[Opposing]:
    """All of a sheet, those of a mic together; EQs of one group against another channel are said once."""
    out, said = [], set[str]()
    for mic in sounding_mics(sheet):
        for one in (*_eqs(sheet, mic), *_levels(sheet, mic)):
            if one.words not in said:
                said.add(one.words)
                out.append(one)
    return out


def _eqs(sheet: Sheet, mic: str) -> Iterator[Opposing]:
    for one in net_curve(sheet, mic).opposed:
        (low, cut), (high, boost) = one.cuts, one.boosts
        yield Opposing(
            mic,
            "eq",
            f"{_called(sheet, low).capitalize()} cuts {-cut:.1f} dB around {one.hz:.0f} Hz, "
            f"{_called(sheet, high)} boosts {boost:.1f} dB there.",
        )


def _levels(sheet: Sheet, mic: str) -> Iterator[Opposing]:
    """Neighbours on the way out, one down and the other up."""
    own = sheet.mics[mic]
    steps = [(f"the fader of {label(mic)}", own.fader_db)]
    if own.to in sheet.groups:
        steps.append((f"the {own.to} group's fader", sheet.groups[own.to].fader_db))
    steps.append(("the drum bus's level", sheet.drum_bus.fader_db))
    for (first, low), (second, high) in itertools.pairwise(steps):
        if OFF_DB < min(low, high) <= -LEVEL_DB and max(low, high) >= LEVEL_DB:
            down, up = (
                ((first, low), (second, high)) if low < high else ((second, high), (first, low))
            )
            yield Opposing(
                mic,
                "level",
                f"{down[0][:1].upper()}{down[0][1:]} is {-down[1]:.1f} dB down, {up[0]} {up[1]:.1f} dB up.",
            )


def _called(sheet: Sheet, channel: str) -> str:
    if channel == DRUM_BUS:
        return "the drum bus"
    return f"the {channel} group" if channel in sheet.groups else label(channel)
