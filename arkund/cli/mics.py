"""Mics: levels, phase and gates."""

import argparse
from typing import Any

from arkund.cli.opening import Add, song_named


def register(add: Add) -> None:
    """The commands of this module."""
    sub = add("trim", _trim, "trim mics by the same dB, so that their relation stays")
    sub.add_argument("song")
    sub.add_argument("by_db", type=float, metavar="DB")
    sub.add_argument("mics", nargs="+", metavar="MIC")
    add("mirror", _mirror, "pan every mic to the other side").add_argument("song")
    sub = add("width", _width, "how wide a pair stands, and where its middle lies")
    sub.add_argument("song")
    sub.add_argument("mic", help="either side of the pair")
    sub.add_argument("width", type=float, help="0 (one place) to 1 (hard left and right)")
    sub.add_argument("--balance", type=float, help="-1 (left) to 1 (right); as it is by default")
    sub = add("align", _align, "delay and polarity of every pair, or one solution for all")
    sub.add_argument("song")
    sub.add_argument(
        "--solve",
        action="store_true",
        help="one shift a mic that serves all pairs, what is left, the snare's centre",
    )
    sub.add_argument("--apply", action="store_true", help="keep that solution as one change")
    sub.add_argument(
        "--onto",
        choices=("overheads", "pairs"),
        default="overheads",
        help="all close mics onto the overheads, or kick and snare pairs alone",
    )
    sub = add("clean", _clean, "gates: current, proposed, what they do, and their regions")
    sub.add_argument("song")
    sub.add_argument(
        "--by-hand", metavar="MIC", help="turn this mic's gate into regions to be moved by hand"
    )
    sub = add("passages", _passages, "the bars by which a drum is judged")
    sub.add_argument("song")
    sub.add_argument("piece")


def _trim(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import levelling

    made = levelling.trim_together(song, args.mics, args.by_db)
    return {"revision": made.number, "label": made.label}


def _width(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import levelling

    made = levelling.spread_pair(song, args.mic, width=args.width, balance=args.balance)
    return {"revision": made.number, "label": made.label}


def _mirror(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import levelling

    made = levelling.mirror(song)
    return {"revision": made.number, "label": made.label}


def _align(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import aligning, facts, locks

    if args.apply:
        with locks.song_lock(song.slug):
            made = aligning.apply(song, args.onto)
        return {"revision": made.number, "label": made.label}
    return aligning.solve(song, args.onto) if args.solve else facts.pairs(song)


def _clean(args: argparse.Namespace) -> Any:
    song = song_named(args.song)
    from arkund.songs import by_hand, gates

    if args.by_hand:
        made = by_hand.derive(song, args.by_hand)
        return {"revision": made.number, "regions": by_hand.described(song, args.by_hand)}
    return gates.gates(song)


def _passages(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import passages
    from arkund.songs.timing import sheet_of

    return passages.described(sheet_of(song), args.piece)
