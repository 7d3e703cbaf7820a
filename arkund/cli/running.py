"""Starting, checking and restoring."""

import argparse
from pathlib import Path
from typing import Any

from arkund.cli.opening import Add, given_path, say, set_up_django, show_progress, song_named
from arkund.cli.waiting import WAITING
from arkund.core.errors import ArkundError


def register(add: Add) -> None:
    """The commands of this module."""
    demo = add("demo", _demo, "make the demo song if missing, start web and worker")
    serve = add("serve", _serve, "start the web part alone")
    worker = add("worker", _worker, "start the worker alone")
    for sub in (demo, serve, worker):
        sub.set_defaults(goes_on=True)
    for sub in (demo, serve):
        sub.add_argument("--port", type=int, default=8000)
        sub.add_argument("--host", default="127.0.0.1", help="address to listen on (loopback)")
    demo.add_argument("--no-browser", action="store_true")
    sub = add("check", _check, "verify database, files and references; exit 1 where one is wrong")
    sub.add_argument("--mend", action="store_true", help="do what it says could be done")
    sub = add("backup", _backup, "write one file with everything of a song")
    sub.add_argument("song")
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="FILE.zip")
    sub.add_argument("--no-audio", action="store_true", help="without its sound files")
    sub = add(
        "restore",
        _restore,
        "bring a song back from its backup; without a file, the newest whole copy of the database",
    )
    sub.add_argument("file", nargs="?", type=given_path, metavar="FILE.zip")
    sub.add_argument("--copy", default="", metavar="NAME", help="this copy instead")
    sub.add_argument("--list", action="store_true", help="only list the copies")


def _demo(args: argparse.Namespace) -> None:
    set_up_django()
    from arkund.songs.demo import make_demo
    from arkund.songs.running import refuse_running, run_both

    refuse_running(args.host, args.port)
    slug = make_demo(show_progress)
    WAITING.end()
    run_both(args.host, args.port, f"/{slug}/", open_browser=not args.no_browser)


def _serve(args: argparse.Namespace) -> None:
    set_up_django()
    from arkund.songs.running import serve

    serve(args.host, args.port)


def _worker(args: argparse.Namespace) -> None:
    set_up_django()
    from arkund.songs.running import work

    work()


def _check(args: argparse.Namespace) -> dict[str, Any]:
    set_up_django(migrate=False)
    from arkund.songs.checking import check

    report = check(mend=args.mend, progress=show_progress)
    for line in report.lines:
        say(line)
    say(report.summary)
    return report.as_dict()


def _backup(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import archives, locks

    if not args.out.parent.is_dir():
        raise ArkundError(f"There is no folder {args.out.parent} to write into.")
    with locks.song_lock(song.slug):
        archives.back_up(
            song,
            args.out,
            audio=not args.no_audio,
            progress=lambda share: show_progress(share, "backing up"),
        )
    return {"file": str(args.out), "bytes": args.out.stat().st_size}


def _restore_song(path: Path) -> dict[str, Any]:
    set_up_django()
    from arkund.songs import archives

    if not path.is_file():
        raise ArkundError(f"There is no file {path.name}.")
    song = archives.restore(path, progress=lambda share: show_progress(share, "bringing back"))
    return {"song": song.slug, "name": song.name, "revisions": song.revisions.count()}


def _restore(args: argparse.Namespace) -> dict[str, Any]:
    if args.file is not None:
        return _restore_song(args.file)
    set_up_django(migrate=False)
    from arkund.songs import backups

    if args.list:
        return {
            "copies": [{"copy": c.name, "made": backups.age_words(c)} for c in backups.copies()]
        }
    copy, aside = backups.restore(args.copy)
    say(
        f"The copy made {backups.age_words(copy)} is in place."
        + (f" What was there is kept as {aside.name}." if aside else "")
    )
    return {"copy": copy.name, "kept_as": aside.name if aside else None}
