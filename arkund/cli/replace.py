"""Replace: layers, subs, samples, even hits, patches."""

import argparse
from typing import Any

from arkund.cli.opening import Add, given_path, say, song_named
from arkund.core.errors import ArkundError


def register(add: Add) -> None:
    """The commands of this module."""
    _samples(add)
    _layers(add)
    sub = add("even", _even, "bring a piece's hits nearer to their like")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument("--amount", type=float, required=True, help="0 to 1; 0 leaves them alone")
    sub = add("patch", _patch, "replace a bad hit in all mics by one that matches it")
    sub.add_argument("song")
    sub.add_argument("hit", help="its id, as `arkund hits` lists it")
    sub.add_argument(
        "--with", dest="by", default="", metavar="HIT", help="the best match by default"
    )
    sub.add_argument("--matches", action="store_true", help="list what would match; change nothing")


def _samples(add: Add) -> None:
    sub = add("harvest", _harvest, "a piece's hits as samples, the best isolated first")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument(
        "-o", dest="out", type=given_path, metavar="DIR", help="write the sample set there"
    )
    sub = add("stock", _stock, "samples for any song: list them, keep a piece's hits, remove a set")
    sub.add_argument("song", nargs="?", help="whose hits are kept")
    sub.add_argument("piece", nargs="?", help="which piece's")
    sub.add_argument("--name", default="", help="what the set is called")
    sub.add_argument(
        "--from",
        dest="source",
        type=given_path,
        metavar="FILE",
        help="keep a folder of samples, a one-shot recording or an SFZ kit for the piece",
    )
    sub.add_argument("--take-out", default="", metavar="NAME", help="remove a set")
    sub = add("sample", _sample, "cut and fade one sample of a layer")
    sub.add_argument("song")
    sub.add_argument("layer", help="its name in the sheet, e.g. snare_layer")
    sub.add_argument("number", type=int, help="the sample, counted from 1")
    sub.add_argument("--length-ms", type=float, help="from its hit on")
    sub.add_argument("--fade-in-ms", type=float)
    sub.add_argument("--fade-out-ms", type=float)


def _layers(add: Add) -> None:
    sub = add("layer", _layer, "lay samples under a piece's hits, or play them instead")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument(
        "--from",
        dest="source",
        default="song",
        help="song (its own hits), simulated, stock:NAME, a folder of samples, a one-shot "
        "recording, or FILE.sfz",
    )
    sub.add_argument("--mode", choices=("under", "instead"), default="under")
    _which_hits(sub, "accents")
    sub = add("sub", _sub, "lay a tone under a piece's hits")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument("--note", default="auto", help="auto, a note such as C1, or 50Hz")
    _which_hits(sub, "all")
    sub.add_argument(
        "--crossover",
        default="off",
        metavar="off|auto|HZ",
        help="the sub alone below it, the drum's close mics alone above it",
    )


def _which_hits(sub: argparse.ArgumentParser, default: str) -> None:
    # `--strokes` is what this was called once; scripts may still say so.
    sub.add_argument(
        "--hits",
        "--strokes",
        dest="hits",
        default=default,
        help="accents, all, or velocities: 20-127",
    )
    sub.add_argument("--blend-db", type=float, help="its fader")


def _harvest(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import replacing

    return replacing.harvest(song, args.piece, args.out)


def _layer(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.layer(song, args.piece, args.source, args.mode, args.hits, args.blend_db)
    if made.reason:
        say(made.reason)
    return {"revision": made.number, "label": made.label}


def _stock(args: argparse.Namespace) -> dict[str, Any]:
    from arkund.songs import stock

    if args.take_out:
        stock.remove(args.take_out)
    elif args.song:
        if not args.piece:
            raise ArkundError("Name the piece too: arkund stock SONG PIECE.")
        song = song_named(args.song)
        if args.source is None:
            stock.keep_own(song, args.piece, args.name)
        else:
            _, note = stock.keep_files(song, args.piece, args.source, args.name)
            if note:
                say(note)
    return {"stock": stock.listed()}


def _sub(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.sub(song, args.piece, args.note, args.hits, args.blend_db, args.crossover)
    return {"revision": made.number, "label": made.label}


def _sample(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.trim_sample(
            song,
            args.layer,
            args.number,
            length_ms=args.length_ms,
            fade_in_ms=args.fade_in_ms,
            fade_out_ms=args.fade_out_ms,
        )
    return {"revision": made.number, "label": made.label}


def _even(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.even(song, args.piece, args.amount)
    return {"revision": made.number, "label": made.label}


def _patch(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, replacing

    if args.matches:
        return replacing.stand_ins(song, args.hit)
    with locks.song_lock(song.slug):
        made = replacing.patch_hit(song, args.hit, args.by)
    return {"revision": made.number, "label": made.label}
