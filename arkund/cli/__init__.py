"""The command line: a thin face over core and songs.

Results are tables and short sentences for people; every command takes ``--json``. Messages go to standard
error; exit 0 on success, 2 on bad usage,
1 on a failure, with one clear line.
"""

import argparse
import json
import os
import sys
from collections.abc import Callable
from typing import Any

from arkund.cli import debug, files, knowing, mics, replace, running, shaping, songs
from arkund.cli.guide import EXAMPLES, Parser
from arkund.cli.opening import say
from arkund.cli.showing import show
from arkund.cli.waiting import WAITING
from arkund.core.errors import ArkundError

SUBJECTS = (running, songs, knowing, mics, replace, shaping, files, debug)


def main(arguments: list[str] | None = None) -> int:
    """Entry of the ``arkund`` command; returns its exit code."""
    parser = _parser()
    args = parser.parse_args(arguments)
    try:
        if getattr(args, "goes_on", False):
            result = args.run(args)
        else:
            with WAITING:
                result = args.run(args)
        if result is not None:
            if args.json:
                print(json.dumps(result, ensure_ascii=False), flush=True)
            else:
                show(result)
    except KeyboardInterrupt:
        say("Stopped.")
        return 1
    except BrokenPipeError:
        # Whoever read has had enough; Python must not try to tell them again on leaving.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 1
    except Exception as error:
        refused = getattr(error, "refused", None)
        if refused is not None and args.json:
            print(json.dumps({"song": None, "refused": refused}))
        words = _words_of(error)
        if not words:
            raise
        say(words)
        return 1
    return 0 if result is None else int(result.get("wrong", 0) > 0)


def _words_of(error: Exception) -> str:
    """One clear line for an error; empty for one that nobody foresaw."""
    from pydantic import ValidationError

    from arkund.core.sheet.complaints import first_complaint

    if isinstance(error, ArkundError):
        return str(error)
    if isinstance(error, ValidationError):
        return first_complaint(error)
    try:
        from arkund.songs.disk import disk_words
    except ArkundError as unusable:  # the data folder, which settings ask for
        return str(unusable)

    if words := disk_words(error):
        return words
    if isinstance(error, OSError):
        return f"{error.filename or 'The disk'}: {error.strerror}."
    return str(error) if isinstance(error, ValueError) else ""


def _parser() -> argparse.ArgumentParser:
    parser = Parser(prog="arkund")
    parser.abouts = {}
    commands = parser.add_subparsers(
        dest="command", required=True, metavar="command", parser_class=argparse.ArgumentParser
    )

    def add(name: str, run: Callable[[argparse.Namespace], Any], about: str) -> Any:
        parser.abouts[name] = about
        sub = commands.add_parser(
            name,
            description=f"{about[:1].upper()}{about[1:]}.",
            epilog=f"Example: arkund {EXAMPLES.get(name, name)}",
        )
        sub.add_argument("--json", action="store_true", help="machine-readable, on one line")
        sub.set_defaults(run=run)
        return sub

    for subject in SUBJECTS:
        subject.register(add)
    return parser
