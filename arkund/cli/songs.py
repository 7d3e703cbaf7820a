"""Songs: made, listed, corrected, changed value by value."""

import argparse
from typing import Any

from arkund.cli.opening import Add, given_path, say, set_up_django, show_progress, song_named
from arkund.cli.shaping import value_said
from arkund.core.errors import ArkundError


def register(add: Add) -> None:
    """The commands of this module."""
    sub = add("simulate", _simulate, "write a simulated recording and truth.json")
    sub.add_argument("dir", type=given_path)
    sub.add_argument("--preset", default="copper")
    sub.add_argument("--seed", type=int, default=1)
    sub.add_argument("--bars", type=int, help="only the first bars")
    sub.add_argument("--takes", type=int, help="only the first takes; all of the preset by default")
    sub.add_argument("--stems", action="store_true", help="also each mic's share of each piece")
    sub = add("new", _new, "make a song from a folder of mics")
    sub.add_argument("name")
    sub.add_argument("--from", dest="source", type=given_path, required=True, metavar="DIR")
    sub.add_argument("--tempo", type=float)
    sub.add_argument("--meter", default="4/4")
    sub.add_argument("--roles", type=given_path, metavar="FILE.csv")
    sub.add_argument("--sections", type=given_path, metavar="FILE.csv")
    sub.add_argument("--resample", type=int, metavar="HZ")
    sub.add_argument("--pad", action="store_true")
    sub.add_argument("--stereo", choices=("left", "right", "sum"), default="")
    sub.add_argument("--skip-bad", action="store_true")
    add("songs", _songs, "list the songs")
    _register_changes(add)
    _register_bars(add)
    add("undo", _undo, "back to the revision before").add_argument("song")
    add("redo", _redo, "forward again").add_argument("song")


def _register_changes(add: Add) -> None:
    """Commands that change a mic or a value of the sheet."""
    sub = add("set-up", _set_up, "correct the role of a mic, exclude it, or replace its file")
    sub.add_argument("song")
    sub.add_argument("mic")
    sub.add_argument("--as", dest="name", metavar="MIC", help="what it is instead")
    sub.add_argument("--swap", action="store_true", help="whoever is that becomes this one")
    sub.add_argument("--unused", metavar="WHY", help="exclude it from everything, with a reason")
    sub.add_argument("--in-use", action="store_true", help="include it again")
    sub.add_argument("--overdub", choices=("yes", "no"), help="recorded by itself, or with the kit")
    sub.add_argument(
        "--file", type=given_path, help="a file for it; adds the mic where there is none"
    )
    sub.add_argument("--take", type=int, default=1, help="the take that the file belongs to")
    sub.add_argument("--stereo", choices=("left", "right", "sum"), default="mono")
    sub = add("set", _set, "change one value of the sheet")
    sub.add_argument("song")
    sub.add_argument("path")
    sub.add_argument("value", help='JSON, e.g. -32, true, "threshold"; null removes a stage or bus')
    sub = add("rename", _rename, "call a bus or group otherwise")
    sub.add_argument("song")
    sub.add_argument("channel", help="buses.strike, groups.toms")
    sub.add_argument("name")
    add("processors", _processors, "every processor with its values, ranges and units")


def _register_bars(add: Add) -> None:
    """Commands for scenes, sections and tempo."""
    sub = add("scene", _scene, "put a scene over other bars, or remove it; a song's scenes")
    sub.add_argument("song")
    sub.add_argument("scene", nargs="?", default="", help="its name; all are listed without one")
    sub.add_argument("--bars", default="", help='where it shall hold, e.g. "9-16, 25-32"')
    sub.add_argument("--out", action="store_true", help="remove all that it changes")
    sub = add(
        "sections", _sections, "a song's sections, those that its hits suggest; or take these over"
    )
    sub.add_argument("song")
    way = sub.add_mutually_exclusive_group()
    way.add_argument("--find", action="store_true", help="only those found, with their evidence")
    way.add_argument("--accept", action="store_true", help="make those found the song's")
    sub = add("tempo", _tempo, "a song's tempo, and others that its hits fit; or take one over")
    sub.add_argument("song")
    sub.add_argument("--midi", type=given_path, metavar="FILE.mid")
    sub.add_argument("--drifting", action="store_true", help="bar by bar from the hits")
    sub.add_argument("--bpm", type=float, help="a constant tempo; bar 1 stays where it is")


def _simulate(args: argparse.Namespace) -> dict[str, Any]:
    from arkund.core.simulate.session import write_recording

    session = write_recording(
        args.preset,
        args.seed,
        args.dir,
        takes=args.takes,
        bars=args.bars,
        keep_stems=args.stems,
        progress=show_progress,
    )
    return {
        "dir": str(args.dir),
        "preset": args.preset,
        "seed": args.seed,
        "tempo_bpm": session.truth["tempo_bpm"],
        "mics": len(session.mics),
        "hits": len(session.truth["hits"]),
    }


def _new(args: argparse.Namespace) -> dict[str, Any]:
    set_up_django()
    from arkund.songs import importing, incoming

    roles = incoming.read_roles(args.roles) if args.roles else {}
    sections = incoming.read_sections(args.sections) if args.sections else ()
    wishes = importing.Wishes(
        args.name, args.tempo, args.meter, None, sections, args.resample, args.pad, args.stereo
    )
    files = incoming.files_of(args.source)
    found = incoming.guess_incoming(files, roles, args.stereo)
    song, refused = importing.import_song(
        found, wishes, skip_bad=args.skip_bad, progress=show_progress
    )
    for entry in refused:
        say(f"Left out {entry['file']}: {entry['reason']}")
    return {"song": song.slug, "refused": refused}


def _songs(args: argparse.Namespace) -> dict[str, Any]:
    set_up_django()
    from arkund.songs.models import Song

    return {"songs": [{"song": s.slug, "name": s.name} for s in Song.objects.on_desk()]}


def _set_up(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, set_up
    from arkund.songs.incoming import Incoming

    names = {args.mic: args.name} if args.name else {}
    if args.name and args.swap:
        names[args.name] = args.mic
    unused = {args.mic: args.unused or ""} if args.unused or args.in_use else {}
    overdubs = {args.mic: args.overdub == "yes"} if args.overdub else {}
    files: tuple[Incoming, ...] = ()
    if args.file:
        files = (Incoming(args.file, args.file.name, args.mic, args.take, args.stereo),)
    wanted = set_up.Wanted(names, unused, overdubs, files)
    with locks.song_lock(song.slug):
        made = set_up.correct(song, song.current.number, wanted, show_progress)
    return {"revision": made.number, "label": made.label}


def _set(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, revisions

    value = value_said(args.value)
    with locks.song_lock(song.slug):
        made = revisions.keep(song.pk, song.current.number, {args.path: value})
    return {"revision": made.number, "label": made.label}


def _rename(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, revisions

    with locks.song_lock(song.slug):
        made = revisions.rename(song.pk, song.current.number, args.channel, args.name)
    return {"revision": made.number, "label": made.label}


def _scene(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.sheet.scenes import put_over, scenes_of, taken_out
    from arkund.songs import locks, revisions
    from arkund.songs.timing import sheet_of

    if bool(args.bars) == args.out and args.scene:
        raise ArkundError("Say either --bars, where the scene shall hold, or --out.")
    sheet = sheet_of(song)
    if args.scene:
        patch = taken_out(sheet, args.scene) if args.out else put_over(sheet, args.scene, args.bars)
        with locks.song_lock(song.slug):
            revisions.keep(song.pk, song.current.number, patch)
        song.refresh_from_db()
        sheet = sheet_of(song)
    return {
        "scenes": {
            name: [{"path": o.path, "bars": o.bars, "value": o.value} for o in own]
            for name, own in scenes_of(sheet).items()
        }
    }


def _processors(args: argparse.Namespace) -> dict[str, Any]:
    from arkund.core.process.registry import catalogue

    return {"processors": catalogue()}


def _sections(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, sections
    from arkund.songs.timing import sheet_of

    if args.accept:
        with locks.song_lock(song.slug):
            song.refresh_from_db()
            made = sections.accept(song)
        return {"revision": made.number, "label": made.label}
    said = sections.described(sheet_of(song))
    return {"found": said["found"]} if args.find else said


def _tempo(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, tempo

    asked = [bool(args.midi), args.drifting, args.bpm is not None]
    if sum(asked) > 1:
        raise ArkundError("Say one of --midi FILE.mid, --drifting and --bpm.")
    if not any(asked):
        assert song.current is not None
        sheet = song.current.sheet
        return {"bpm": sheet.tempo.bpm, "hits also fit": tempo.other_tempos(sheet)}
    with locks.song_lock(song.slug):
        if args.midi:
            made = tempo.from_midi(song, args.midi)
        else:
            made = tempo.drifting(song) if args.drifting else tempo.constant(song, args.bpm)
    return {"revision": made.number, "label": made.label}


def _undo(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import facts, revisions

    revisions.undo(song.pk)
    song.refresh_from_db()
    return facts.log(song)


def _redo(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import facts, revisions

    revisions.redo(song.pk)
    song.refresh_from_db()
    return facts.log(song)
