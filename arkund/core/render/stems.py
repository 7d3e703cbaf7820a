"""What a print writes: which channels, tapped where, and under which names."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from arkund.core.errors import ArkundError
from arkund.core.graph.graph import Graph
from arkund.core.graph.nodes import Node
from arkund.core.graph.summing import Mixed
from arkund.core.render.wish import KINDS, Wish, named_by

_SINGULAR = {kind: kind.removesuffix("s") for kind in KINDS}


@dataclass(frozen=True)
class Stem:
    """One file of a print, without its ending, and what it holds: a channel's ``node`` and the ``parts`` of the
    graph's sum that are in it."""

    kind: str
    name: str
    file: str
    node: Node
    parts: frozenset[str] = frozenset()


def stems_of(
    graph: Graph,
    wish: Wish,
    *,
    song: str,
    revision: int = 1,
    pieces: Mapping[str, str] | None = None,
    edited: Mapping[str, Node] | None = None,
) -> list[Stem]:
    """The stems that a wish asks of a graph, in the order in which they are numbered.

    ``pieces`` says of mics and layers which drum they belong to; ``edited`` are the mics moved and
    aligned. Raises `ArkundError` where a channel is not there or two files would have one name.
    """
    if wish.tap == "edited":
        found: list[_Found] = [
            ("mics", name, name, node, ()) for name, node in (edited or {}).items()
        ]
    elif wish.tap == "cleaned":
        found = [("mics", name, name, graph.mics[name].clean, ()) for name in graph.outs]
    else:
        found = [one for kind in wish.kinds for one in _of_kind(kind, graph, pieces or {})]
    known = {name for _, name, *_ in found}
    if missing := [name for name in wish.only if name not in known]:
        raise ArkundError(
            f"There is no stem “{missing[0]}” among these. There are: {', '.join(sorted(known))}."
        )
    wanted = (set(wish.only) or known) - set(wish.left_out)
    chosen = [one for one in found if one[1] in wanted]
    stems = [
        Stem(
            kind,
            name,
            named_by(
                wish.pattern,
                song=song,
                name=called,
                n=number,
                kind=_SINGULAR[kind],
                tap=wish.tap,
                revision=revision,
            ),
            node,
            frozenset(parts),
        )
        for number, (kind, name, called, node, parts) in enumerate(chosen, start=1)
    ]
    if not stems:
        raise ArkundError("Nothing is chosen to be printed.")
    _refuse_twice(stem.file for stem in stems)
    return stems


_Found = tuple[str, str, str, Node, Iterable[str]]
"""Kind, channel, its part of the file's name, what it holds, and its parts of the sum."""


def _of_kind(kind: str, graph: Graph, pieces: Mapping[str, str]) -> list[_Found]:
    def part(name: str) -> tuple[str, ...]:
        return (name,) if name in graph.parts else ()

    if kind == "mics":
        return [(kind, name, name, node, part(name)) for name, node in graph.outs.items()]
    if kind == "layers":
        return [
            (kind, name, _layer_file(name), node, part(name)) for name, node in graph.layers.items()
        ]
    if kind == "groups":
        # Of groups that do something: the others are what their mics are.
        return [
            (kind, name, f"{name}_group", node, part(name))
            for name, node in graph.groups.items()
            if name in graph.parts
        ]
    if kind == "returns":
        return [
            (kind, name, f"{name}_return", node, part(name)) for name, node in graph.returns.items()
        ]
    if kind == "mix":
        return [(kind, "mix", "mix", graph.output, ())]
    return _pieces(graph, pieces)


def _pieces(graph: Graph, pieces: Mapping[str, str]) -> list[_Found]:
    """Each drum's mics and layers as one; drums that share a group that does something as that group, for what
    it does is done to all of them."""
    of: dict[str, list[str]] = {}
    for name in graph.parts:
        if name not in graph.returns:
            of.setdefault(name if name in graph.groups else pieces.get(name, name), []).append(name)
    order = list(dict.fromkeys(pieces.values()))
    named = sorted(of.items(), key=lambda one: order.index(one[0]) if one[0] in order else len(of))
    return [
        ("pieces", piece, f"{piece}_piece", _together([graph.parts[p] for p in parts]), parts)
        for piece, parts in named
    ]


def _together(nodes: list[Node]) -> Node:
    return nodes[0] if len(nodes) == 1 else Mixed(tuple((node, 1.0, 1.0) for node in nodes))


def _layer_file(name: str) -> str:
    """A layer's file says that it is one: it may be called ``mix``, or like a group's file."""
    return name if name.endswith(("_layer", "_sub")) else f"{name}_layer"


def counted(stems: Sequence[Stem]) -> list[bool]:
    """Of each stem whether it is added up for the null proof: what is in a stem before it is not added twice."""
    covered: set[str] = set()
    out = []
    for stem in stems:
        out.append(bool(stem.parts) and not stem.parts & covered)
        covered |= stem.parts if out[-1] else frozenset()
    return out


def is_whole(stems: Sequence[Stem], graph: Graph) -> bool:
    """Whether the stems that count hold all that the graph's sum is made of."""
    held = [s.parts for s, counts in zip(stems, counted(stems), strict=True) if counts]
    return frozenset[str]().union(*held) == set(graph.parts)


def _refuse_twice(names: Iterable[str]) -> None:
    """Names that differ in capitals alone are one file on some computers."""
    seen = set()
    for name in names:
        if name.casefold() in seen:
            raise ArkundError(
                f"Two channels would be printed as {name}. Give the pattern a {{name}} or {{n}}, or rename one of them."
            )
        seen.add(name.casefold())
