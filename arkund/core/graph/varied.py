"""Channels over the song: their chains, and nodes that go from one version to the next."""

from collections.abc import Mapping, Sequence

from arkund.core.graph.chains import Link, Processed
from arkund.core.graph.graph import Chained
from arkund.core.graph.hearing import Heard
from arkund.core.graph.nodes import Node
from arkund.core.graph.summing import Input, Mixed, Varied
from arkund.core.process.stage import processor_of
from arkund.core.sheet.channels import Channel
from arkund.core.sheet.limits import OFF_DB
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.varying import variants
from arkund.core.units import db_to_amplitude


def fader_gain(db: float) -> float:
    """Amplitude of a fader, send or blend; 0 where it is shut."""
    return 0.0 if db <= OFF_DB else db_to_amplitude(db)


def sounds(one: Input) -> bool:
    """Whether an input is heard at all."""
    return one[1] != 0.0 or one[2] != 0.0


def input_of(parts: Sequence[tuple[int, int, Node, float, float]]) -> Input:
    """A node with its gains; of several by time, one that goes from each to the next."""
    if len(parts) == 1:
        _, _, node, left, right = parts[0]
        return node, left, right
    mixed = tuple(
        (at, ramp, Mixed(((node, left, right),))) for at, ramp, node, left, right in parts
    )
    return Varied(mixed), 1.0, 1.0


def varied(parts: Sequence[tuple[int, int, Node]]) -> Node:
    """A node that goes from each to the next; the one where all are the same."""
    is_one = len(parts) == 1 or len({node.key for _, _, node in parts}) == 1
    return parts[0][2] if is_one else Varied(tuple(parts))


def varied_chain(times: Sequence[tuple[int, int]], made: Sequence[Chained]) -> Chained:
    """A chain whose taps go from one version's to the next's."""
    if len(made) == 1:
        return made[0]

    def each(nodes: Sequence[Node]) -> Node:
        return varied([(at, ramp, n) for (at, ramp), n in zip(times, nodes, strict=True)])

    first = made[0]
    return Chained(
        first.chain,
        each([m.entry for m in made]),
        {i: each([m.after[i] for m in made]) for i in first.after},
        {i: each([m.keys[i] for m in made]) for i in first.keys if all(i in m.keys for m in made)},
    )


def channel_at(sheet: Sheet, path: str) -> Channel:
    """The group, bus or drum bus at a path."""
    table, _, name = path.partition(".")
    found: Channel = getattr(sheet, table)[name] if name else getattr(sheet, table)
    return found


def is_clear(channel: Channel) -> bool:
    """Whether a channel leaves what runs through it as it is."""
    idle = all(stage.is_transparent for stage in channel.chain)
    return idle and not channel.mute and channel.fader_db == 0.0


def chained(
    channel: Channel, entry: Node, rate: int, sources: Mapping[str, Node], hearing: Heard
) -> Chained:
    """A channel's chain on top of what comes in; ``sources`` are what its stages may listen to."""
    after: dict[str, Node] = {}
    keys: dict[str, Node] = {}
    node = entry
    links: list[Link] = []
    working = [stage for stage in channel.chain if not stage.is_transparent]
    for stage in channel.chain:
        key, listens, through = stage.listens, None, None
        if key is not None and not key.is_plain:
            listens = sources[key.source] if key.source else None
            through = key.filters(rate) if key.is_filtered else None
            heard = listens or node
            keys[stage.id] = Processed(heard, (Link(through),)) if through else heard
        if not stage.is_transparent:
            links.append(Link(processor_of(stage, rate), listens, through))
            node = Processed(entry, tuple(links), dear=stage is working[-1], behind=hearing.behind)
        after[stage.id] = node
    return Chained(channel.chain, entry, after, keys)


def versions_of(sheet: Sheet, path: str) -> list[Channel]:
    """What a channel is over the song."""
    return [channel_at(version, path) for _, _, version in variants(sheet, path)]
