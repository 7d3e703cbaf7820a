"""For who works on Arkund itself."""

import argparse
from typing import Any

from arkund.cli.opening import Add, song_named
from arkund.core.errors import ArkundError


def register(add: Add) -> None:
    """The commands of this module."""
    sub = add("debug", _debug, "for developers: why a sound's key differs between two revisions")
    sub.add_argument("what", choices=("key",))
    sub.add_argument("song")
    sub.add_argument("node", help="output, sum, a mic, a group or a bus")
    sub.add_argument("--between", nargs=2, type=int, metavar=("BEFORE", "AFTER"))


def _debug(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.graph.why import why_keys_differ
    from arkund.songs.models import Revision
    from arkund.songs.rendering import graph_of

    last = song.current.number
    before, after = args.between or (max(last - 1, 1), last)
    nodes = []
    for number in (before, after):
        revision = Revision.objects.filter(song=song, number=number).first()
        if revision is None:
            raise ArkundError(f"{song.name} has no revision {number}; its last is {last}.")
        nodes.append(graph_of(revision.sheet).node(args.node))
    return {
        "between": [before, after],
        "keys": [node.key for node in nodes],
        "differences": why_keys_differ(*nodes),
    }
