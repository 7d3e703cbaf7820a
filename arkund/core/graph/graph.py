"""The signal graph of a sheet: repair … trim → polarity, delay → clean → the mic's chain → mute →
pre-fader tap → fader, pan → its group's chain and fader → *sum* (+ the buses' returns) → the drum
bus's chain and fader → *output*.
"""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Literal

from arkund.core.errors import SheetError
from arkund.core.graph.chains import Processed
from arkund.core.graph.nodes import Gated, Node
from arkund.core.graph.sides import Side
from arkund.core.graph.summing import Mixed
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.stage import Stage
from arkund.core.sheet.channels import DRUM_BUS

Variant = Literal["now", "removed", "recorded"]

VARIANTS: tuple[Variant, ...] = ("now", "removed", "recorded")


@dataclass(frozen=True)
class Chained:
    """A channel's sound on its way through its chain: as it comes in, and after each stage by id."""

    chain: tuple[Stage, ...]
    entry: Node
    after: Mapping[str, Node]
    keys: Mapping[str, Node] = field(default_factory=dict)
    """What stages that listen to something else hear, by id."""

    @property
    def end(self) -> Node:
        """Behind the last stage."""
        return self.after[self.chain[-1].id] if self.chain else self.entry

    def before(self, stage_id: str) -> Node:
        """What a stage hears."""
        place = next(n for n, stage in enumerate(self.chain) if stage.id == stage_id)
        return self.after[self.chain[place - 1].id] if place else self.entry

    def tap(self, stage_id: str) -> Node:
        """Behind a stage; raises `SheetError` where the chain has none of that name."""
        if stage_id not in self.after:
            known = ", ".join(self.after) or "none"
            raise SheetError(f"There is no stage “{stage_id}” in this chain. There are: {known}.")
        return self.after[stage_id]


@dataclass(frozen=True)
class MicStages:
    """One mic after each stage: `source` as recorded with joins and moves, `repaired` and the rest
    on top of that, ``chained`` its chain; `shaped`, behind that, is the pre-fader tap."""

    source: Node
    repaired: Node
    placed: Node
    clean: Node
    chained: Chained

    @property
    def shaped(self) -> Node:
        """Behind the whole chain."""
        return self.chained.end

    @property
    def equalised(self) -> Node:
        """Behind the first EQ; as it enters the chain where that has none."""
        return self._around(Equaliser, behind=True) or self.chained.entry

    @property
    def transient(self) -> Node:
        """Before the first compressor; behind the chain where that has none."""
        return self._around(Compressor, behind=False) or self.shaped

    def _around(self, kind: type[Stage], *, behind: bool) -> Node | None:
        stage = next((s for s in self.chained.chain if isinstance(s, kind)), None)
        if stage is None:
            return None
        return self.chained.after[stage.id] if behind else self.chained.before(stage.id)


def _chains_of(nodes: Iterable[Node]) -> list[Processed]:
    """The chains that are run for some channels, of a pair one. What differs over bars is not among
    them: each of its versions is run where it is heard alone."""
    ends = [node.source if isinstance(node, Side) else node for node in nodes]
    return list({end.key: end for end in ends if isinstance(end, Processed)}.values())


TOGETHER = "+"
"""Between the names of several nodes that are heard together."""


@dataclass(frozen=True)
class Graph:
    """All nodes of a sheet. ``mics`` in mic order, those out of use and beside the drums too;
    ``outs`` of those that sound, after fader and pan, stereo; ``chains`` of groups, buses and the
    drum bus; ``groups`` and ``returns`` behind their faders; ``parts`` what the sum is made of, by
    name; ``song`` the drums with the bed; ``layers`` behind their faders; ``heard`` the buses that have
    a part in the mix."""

    mics: dict[str, MicStages]
    outs: dict[str, Node]
    chains: dict[str, Chained]
    groups: dict[str, Node]
    returns: dict[str, Node]
    parts: dict[str, Node]
    sum: Node
    output: Node
    beside: dict[str, Node]
    song: Node
    layers: dict[str, Node] = field(default_factory=dict)
    heard: frozenset[str] = frozenset()

    def node(self, name: str) -> Node:
        """The node of a public name: ``output``, ``sum``, ``song`` (the drums with the bed),
        ``bed``, ``reference``, a mic (as it enters the mix, mono), a group or a bus (behind its
        fader), or several of these joined by ``+`` as they are in the mix. Raises `SheetError`
        otherwise."""
        if TOGETHER in name:
            several = dict.fromkeys(name.split(TOGETHER))
            return Mixed(tuple((self.outs.get(n) or self.node(n), 1.0, 1.0) for n in several))
        named = {
            "output": self.output,
            "sum": self.sum,
            "song": self.song,
            **self.beside,
            **{m: stages.shaped for m, stages in self.mics.items()},
            **self.layers,
            **self.returns,
        }
        for group, node in self.groups.items():
            named.setdefault(group, node)
        if name not in named and (key := self._key(name)):
            return key
        if name not in named:
            raise SheetError(
                f"There is nothing called “{name}” to hear. There are: {', '.join(named)}."
            )
        return named[name]

    def levels(self) -> list[list[Processed]]:
        """Chains in the order in which they feed each other: mics and layers, then groups and the buses
        that are heard. Those of one level wait for none of it, but for what a bus is sent by a group
        or another bus."""
        lanes = [self.mics[name].shaped for name in self.outs]
        lanes += [self.chains[name].end for name in self.layers]
        behind = [self.chains[name].end for name in self.groups]
        behind += [chain.end for name, chain in self.chains.items() if name in self.heard]
        return [_chains_of(lanes), _chains_of(behind)]

    def _key(self, name: str) -> Node | None:
        """What a stage listens to, by ``channel.stage.key``: as its detector hears it."""
        channel, _, rest = name.partition(".")
        stage, _, what = rest.partition(".")
        if what != "key" or (channel not in self.mics and channel not in self.chains):
            return None
        if stage == "clean" and channel in self.mics:
            clean = self.mics[channel].clean
            return (clean.listens if isinstance(clean, Gated) else None) or self.mics[
                channel
            ].placed
        chained = self.chain(channel)
        if stage not in chained.after:
            return None
        return chained.keys.get(stage) or chained.before(stage)

    def chain(self, name: str) -> Chained:
        """The chain of a mic, a group, a bus, or of ``output``: the drum bus. Raises `SheetError`."""
        if name in self.mics:
            return self.mics[name].chained
        name = DRUM_BUS if name == "output" else name
        if name not in self.chains:
            known = ", ".join([*self.mics, *self.chains])
            raise SheetError(f"“{name}” has no chain. These have: {known}.")
        return self.chains[name]
