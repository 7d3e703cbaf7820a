"""What in a graph gives sound that is not a number, by channel and stage.

The engine plays silence where a node's sound is NaN or infinite and notes the node
(`TileCache.broken`). Here the node is found in its graph, so that whoever listens is told, and
whoever prints is refused.
"""

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, fields

from arkund.core.errors import ArkundError
from arkund.core.graph.chains import Link, Processed
from arkund.core.graph.graph import Chained, Graph
from arkund.core.graph.nodes import Node
from arkund.core.kit.roles import label
from arkund.core.render.cache import Broken, TileCache
from arkund.core.sheet.channels import DRUM_BUS


class BrokenSound(ArkundError):
    """Sound that is not a number was about to be written or measured."""


@dataclass(frozen=True)
class Fault:
    """A channel whose sound is not a number from ``at_s`` on; ``stage`` is the label of the stage that
    it comes from, empty where it comes in like that."""

    channel: str
    stage: str
    at_s: float

    @property
    def sentence(self) -> str:
        """What happened, and what to do."""
        name = "drum bus" if self.channel == DRUM_BUS else label(self.channel)
        where = f"{name[:1].upper()}{name[1:]}{f', {self.stage}' if self.stage else ''}"
        remedy = (
            "Bypass the stage or change its settings."
            if self.stage
            else "Remove the layer or bring the file in again."
        )
        return (
            f"{where}: the sound is not a number from {self.at_s:.2f} s on and plays as silence. "
            f"{remedy}"
        )


def faults(graph: Graph, cache: TileCache, rate: int) -> list[Fault]:
    """The channels of a graph that gave what is not a number, in the order of the signal; of what was
    rendered until now. A channel is named for what is broken in itself, not in what feeds it."""
    broken, seen, out = dict(cache.broken), set[int](), list[Fault]()
    if not broken:
        return out
    chains = {name: stages.chained for name, stages in graph.mics.items()} | graph.chains
    for name, chained in chains.items():
        for node in _upstream(chained.end, seen):
            if node.key in broken:
                found = broken[node.key]
                out.append(Fault(name, _stage(chained, node, found), found.at / rate))
    for node in _upstream(graph.song, seen):
        if node.key in broken:
            out.append(Fault(DRUM_BUS, "", broken[node.key].at / rate))
    return out


def refuse_broken(graph: Graph, cache: TileCache, rate: int) -> None:
    """Raises `BrokenSound` where anything of a graph gave what is not a number."""
    found = faults(graph, cache, rate)
    if found:
        raise BrokenSound(" ".join(fault.sentence for fault in found[:3]))


def _stage(chained: Chained, node: Node, broken: Broken) -> str:
    working = [stage for stage in chained.chain if not stage.is_transparent]
    is_own = isinstance(node, Processed) and 0 <= broken.link < len(working)
    return working[broken.link].label if is_own else ""


def _upstream(node: Node, seen: set[int]) -> Iterator[Node]:
    """A node and all that feeds it, each once; what was ``seen`` before is left out."""
    waiting = [node]
    while waiting:
        one = waiting.pop()
        if id(one) in seen:
            continue
        seen.add(id(one))
        yield one
        waiting += _nodes_in([getattr(one, f.name) for f in fields(one)])


def _nodes_in(value: object) -> list[Node]:
    """The nodes within a field's value, which may be a node, a link, or tuples of these."""
    if isinstance(value, Node):
        return [value]
    if isinstance(value, Link):
        return [value.listens] if value.listens else []
    if isinstance(value, Mapping) or not isinstance(value, (list, tuple)):
        return []
    return [node for one in value for node in _nodes_in(one)]
