"""Starting, checking and restoring."""

import argparse
from typing import Any

from arkund.cli.opening import Add, say, set_up_django, show_progress
from arkund.cli.waiting import WAITING


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
    sub = add("restore", _restore, "put the newest whole copy of the database in its place")
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


def _restore(args: argparse.Namespace) -> dict[str, Any]:
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
