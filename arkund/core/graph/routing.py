"""Where channels run into: groups that do something, sends, what stands beside the drums."""

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from arkund.core.graph.graph import Chained, MicStages
from arkund.core.graph.hits import Hits
from arkund.core.graph.nodes import Node, Pulses
from arkund.core.graph.summing import Input, Mixed, pan_gains
from arkund.core.graph.varied import (
    fader_gain,
    is_clear,
    sounds,
)
from arkund.core.sheet.channels import Mic, Send
from arkund.core.sheet.lanes import (
    HITS,
    hit_lists,
    mic_order,
)
from arkund.core.sheet.sheet import Sheet, bus_order
from arkund.core.sheet.varying import variants


def hit_keys(sheet: Sheet, heard: Callable[[], Hits]) -> dict[str, Node]:
    """Lists of hits as sounds, those that some stage listens to."""
    channels = (*sheet.mics.values(), *sheet.groups.values(), *sheet.buses.values(), sheet.drum_bus)
    sources = {s.listens.source for c in channels for s in c.chain if s.listens}
    return {
        name: Pulses(
            tuple(
                sorted(
                    (round(h.time_s * sheet.rate), round(h.velocity / 127, 4))
                    for h in heard().of(name.removesuffix(HITS))
                )
            )
        )
        for name in hit_lists(sheet)
        if name in sources
    }


def heard_buses(sheet: Sheet, sounding: Sequence[str]) -> frozenset[str]:
    """The buses that are in the mix, feed one that is, or are listened to by some stage."""
    channels = (*sheet.mics.values(), *sheet.groups.values(), *sheet.buses.values(), sheet.drum_bus)
    listened = {s.listens.source for c in channels for s in c.chain if s.listens}
    heard = {*sounding, *(listened & set(sheet.buses))}
    # Who feeds a bus comes before it in this order.
    for name in reversed(bus_order(sheet.buses)):
        if name in heard:
            heard |= set(sheet.buses[name].sends) & set(sheet.buses)
    return frozenset(heard)


def panned(mic: Mic, level: float) -> tuple[float, float]:
    """Gains of a mic to the left and to the right; none where it is muted."""
    left, right = pan_gains(mic.pan)
    return (0.0, 0.0) if mic.mute else (left * level, right * level)


def live_groups(sheet: Sheet) -> set[str]:
    """Groups that do something, if only over some bars."""
    return {
        name
        for name in sheet.groups
        if not all(
            is_clear(version.groups[name]) for _, _, version in variants(sheet, f"groups.{name}")
        )
    }


def beside_the_drums(sheet: Sheet, every: dict[str, MicStages]) -> dict[str, Node]:
    """The bed at its level and the reference, those that the song has."""
    out: dict[str, Node] = {}
    for role, level in (("bed", fader_gain(sheet.bed_db)), ("reference", 1.0)):
        names = [
            m for m in mic_order(sheet) if sheet.mics[m].role == role and not sheet.mics[m].unused
        ]
        if names:
            gains = [(every[m].shaped, pan_gains(sheet.mics[m].pan)) for m in names]
            out[role] = Mixed(tuple((n, a * level, b * level) for n, (a, b) in gains))
    return out


def with_bed(drums: Node, beside: dict[str, Node]) -> Node:
    """The drums with the bed under them."""
    bed = beside.get("bed")
    return drums if bed is None else Mixed(((drums, 1.0, 1.0), (bed, 1.0, 1.0)))


class Taps(NamedTuple):
    """Where a bus may take a channel. Mics are panned as they are, so that the return has its image."""

    untreated: Mapping[str, Input]
    """Mics before their chains."""
    treated: Mapping[str, Input]
    """Mics behind their chains, before their faders."""
    chains: Mapping[str, Chained]
    """Groups and buses on their way."""
    behind: Mapping[str, Node]
    """All of them, behind their faders."""


def sends(sheet: Sheet, bus: str, taps: Taps, opened: Callable[[Node, Mic], Node]) -> list[Input]:
    """What a bus takes: mics in their order, then groups and other buses. ``opened`` makes of a close mic's sound
    that of its drum's hits; a muted channel sends nothing."""
    own, out = sheet.buses[bus].sends, []
    for name in (*taps.treated, *sheet.groups, *sheet.buses):
        send = own.get(name)
        if not send or not (level := fader_gain(send.db)):
            continue
        mic = sheet.mics.get(name)
        node, left, right = _taken(sheet, name, send, taps)
        if send.by_hits and mic is not None and mic.name.piece is not None:
            node = opened(node, mic)
        out.append((node, left * level, right * level))
    return [one for one in out if sounds(one)]


def _taken(sheet: Sheet, name: str, send: Send, taps: Taps) -> Input:
    if name in sheet.mics and (send.untreated or send.pre):
        return (taps.untreated if send.untreated else taps.treated)[name]
    if not (send.untreated or send.pre):
        return taps.behind[name], 1.0, 1.0
    chained = taps.chains[name]
    level = 0.0 if (sheet.groups.get(name) or sheet.buses[name]).mute else 1.0
    return chained.entry if send.untreated else chained.end, level, level
