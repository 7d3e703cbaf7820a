"""Shape: chains copied from drum to drum and from song to song, ladders of one value."""

import argparse
import json
from typing import Any

from arkund.cli.opening import Add, given_path, say, set_up_django, show_progress, song_named


def register(add: Add) -> None:
    """The commands of this module."""
    sub = add("copy", _copy, "give a mic another's chain, fitted to its drum")
    sub.add_argument("song")
    sub.add_argument("source", metavar="from", help="the mic whose chain it is")
    sub.add_argument("target", metavar="to")
    sub.add_argument("--stages", default="", help="only these, with commas: eq,compressor")
    sub.add_argument("--preview", action="store_true", help="say what would change; store nothing")
    sub = add("chain", _chain, "save a mic's chain as your own, or add one, fitted to a drum")
    ways = sub.add_subparsers(dest="way", required=True, metavar="save|use|list")
    for way, about in (
        ("save", "keep a mic's chain under a name"),
        ("use", "add a chain behind a mic's own, bypassed"),
    ):
        own = ways.add_parser(way, description=f"{about[:1].upper()}{about[1:]}.")
        own.add_argument("song")
        own.add_argument("path", help="the mic, e.g. mics.snare_top")
        own.add_argument("name")
    ways.add_parser("list", description="Your own chains.")
    for own in ways.choices.values():
        own.add_argument("--json", action="store_true", default=argparse.SUPPRESS)
    sub = add(
        "ladder", _ladder, "one value at several steps, equally loud, as files to choose among"
    )
    sub.add_argument("song")
    sub.add_argument("path", help="what changes, e.g. mics.snare_top.chain.compressor.attack_ms")
    sub.add_argument(
        "--values", help="two to five, with commas: 5,10,20,40; by default what the hits suggest"
    )
    sub.add_argument("--bars", help="FIRST-LAST; the whole song by default")
    sub.add_argument("--node", default="", help="what is heard; the channel of the path by default")
    sub.add_argument(
        "--blind", type=int, metavar="SEED", help="in an order that only key.json tells"
    )
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="DIR")


def _copy(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import chains, locks

    kinds = [one.strip() for one in args.stages.split(",") if one.strip()]
    if args.preview:
        return {"changes": chains.fitted(song, args.source, args.target, kinds)["rows"]}
    with locks.song_lock(song.slug):
        said = chains.fitted(song, args.source, args.target, kinds)
        made = chains.keep_fitted(song, args.source, args.target, said["patch"])
    return {"revision": made.number, "label": made.label, "changes": said["rows"]}


def _chain(args: argparse.Namespace) -> dict[str, Any]:
    if args.way == "list":
        set_up_django()
        from arkund.songs import chains

        return {"chains": chains.owned()}
    song = song_named(args.song)
    from arkund.songs import chains, locks

    if args.way == "save":
        return {"saved": chains.save(song, args.path, args.name).name}
    with locks.song_lock(song.slug):
        song.refresh_from_db()
        assert song.current is not None
        made = chains.use(song, song.current.number, args.path, args.name)
    return {"revision": made.number, "label": made.label}


def value_said(text: str) -> Any:
    """A value as it is typed: a number or a switch where it is one, else a word."""
    try:
        return json.loads(text)
    except json.JSONDecodeError:
        return text


def _ladder(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.cli.files import span_said
    from arkund.songs import ladders, rendering, timing

    sheet = timing.sheet_of(song)
    start, stop = span_said(args.bars, sheet, rendering.grid_of(sheet))
    values = [value_said(one.strip()) for one in (args.values or "").split(",") if one.strip()]
    steps = (
        ladders.offered(sheet, args.path, start, stop)
        if args.values is None
        else ladders.given(args.path, values)
    )
    node = args.node or ladders.channel_of(args.path)
    rungs = ladders.rungs_heard(sheet, steps, node, start, stop, progress=show_progress)
    said = ladders.write_ladder(args.out, sheet, args.path, rungs, args.blind)
    if args.blind is not None and not args.json:
        say(f"{len(rungs)} rungs are in {args.out}. key.json tells which is which; listen first.")
        return {"files": [{"file": one["file"]} for one in said["rungs"]]}
    return said
