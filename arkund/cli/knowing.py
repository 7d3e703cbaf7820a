"""What is known of a song, and what is proposed for it."""

import argparse
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from arkund.cli.opening import Add, show_progress, song_named
from arkund.core.errors import ArkundError

if TYPE_CHECKING:
    from arkund.songs.models import Revision


MOST_MEASURED = 1000


def register(add: Add) -> None:
    """The commands of this module."""
    for name, fact, about in (
        ("show", "show", "a song's mics, takes and sections"),
        ("measure", "measures", "levels of every mic"),
    ):
        add(name, _fact(fact), about).add_argument("song")
    sub = add("log", _log, "the revisions that lead to the present sheet")
    sub.add_argument("song")
    sub.add_argument(
        "--measure", action="store_true", help="also measure your own changes without figures"
    )
    sub = add("compare", _compare, "every value that differs between two revisions")
    sub.add_argument("song")
    sub.add_argument("a", help="number of the one, as in the log, or its snapshot's name")
    sub.add_argument("b", nargs="?", help="the other; the present one by default")
    sub = add("snapshot", _snapshot, "name the present revision; list the names, or go back to one")
    sub.add_argument("song")
    sub.add_argument("name", nargs="?")
    sub.add_argument("--back", action="store_true", help="make it the present one again")
    sub.add_argument("--remove", action="store_true", help="remove the name; the revision stays")
    sub = add("todo", _todo, "what is still to do; note something, or tick it")
    sub.add_argument("song")
    sub.add_argument("what", nargs="?", choices=("add", "done", "open"))
    sub.add_argument("text", nargs="?", help="in words, or the number of one that is there")
    sub.add_argument("--at", type=int, metavar="BAR", help="where it is heard")
    sub.add_argument("--mic", default="", help="what it is about")
    add("bed", _bed, "the drums against the bed and the reference").add_argument("song")
    add("carries", _carries, "who carries each piece, and who owns the low end").add_argument(
        "song"
    )
    add("routes", _routes, "where everything goes, and what can hardly be meant").add_argument(
        "song"
    )
    sub = add("masking", _masking, "how a drum's mics share its spectrum, and what masks it")
    sub.add_argument("song")
    sub.add_argument("piece", help="kick, snare, tom_1 …")
    sub = add("hits", _hits, "the hits of a take")
    sub.add_argument("song")
    sub.add_argument("--take", type=int, default=1)
    sub = add("findings", _findings, "what was found and is proposed")
    sub.add_argument("song")
    sub.add_argument("--station", default="", help="of one station, e.g. align")
    sub = add(
        "ask", _ask, "what needs your ear: loud moments of drums without a hit; and your answers"
    )
    sub.add_argument("song")
    sub.add_argument("piece", nargs="?", help="the drum that you answer for")
    sub.add_argument("time_s", nargs="?", type=float, help="the moment, in seconds")
    sub.add_argument("answer", nargs="?", choices=("hit", "bleed"))
    sub = add("first-pass", _first_pass, "apply all findings of a school, each its own revision")
    sub.add_argument("song")
    sub.add_argument("--school", required=True, help="tight, natural, open, or an own school")
    sub.add_argument("--preview", action="store_true", help="say what it would do; change nothing")
    sub = add("card", _card, "the punch card: wanted, as recorded, now, and without each stage")
    sub.add_argument("song")
    sub.add_argument("--school", default="", help="whose goal; the song's own by default")


def _bed(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import beside, timing

    return beside.described(timing.sheet_of(song))


def _compare(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.bench import history
    from arkund.songs import snapshots

    b = song.current if args.b is None else snapshots.revision_of(song, args.b)
    found = history.comparison(song, snapshots.revision_of(song, args.a).number, b.number)
    return {
        "a": {"number": found["a"].number, "label": found["a"].label},
        "b": {"number": found["b"].number, "label": found["b"].label},
        "differences": [
            {key: row[key] for key in ("path", "whose", "what", "a", "b")}
            | _made_by(row["made_by"])
            for row in found["differences"]
        ],
    }


def _made_by(revision: "Revision | None") -> dict[str, Any]:
    """Which revision set a value, and whether a hand did or a finding."""
    if revision is None:
        return {"revision": None, "by": ""}
    return {"revision": revision.number, "by": "finding" if revision.finding else "hand"}


def _snapshot(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, snapshots

    if (args.back or args.remove) and not args.name:
        raise ArkundError("Name the snapshot.")
    if args.back:
        with locks.song_lock(song.slug):
            made = snapshots.go_back(song, args.name)
        return {"revision": made.number, "label": made.label}
    if args.remove:
        snapshots.remove(song, args.name)
    elif args.name:
        snapshots.name_present(song, args.name)
    return {
        "snapshots": [
            {"name": one.name, "revision": one.revision.number, "label": one.revision.label}
            for one in song.snapshots.select_related("revision")
        ]
    }


def _todo(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import todos

    if args.what and not args.text:
        raise ArkundError("Say what is to be done, or the number of the one that you mean.")
    if args.what == "add":
        todos.add(song, args.text, args.mic, args.at)
    elif args.what:
        if not args.text.isdecimal():
            raise ArkundError(f"“{args.text}” is not the number of a to-do.")
        todos.tick(song, int(args.text), done=args.what == "done")
    return {
        "todos": [
            {"number": t.number, "text": t.text, "mic": t.mic or None, "bar": t.bar}
            for t in todos.open_of(song)
        ]
    }


def _fact(name: str) -> Callable[[argparse.Namespace], dict[str, Any]]:
    """A command that prints what `arkund.songs.facts` knows of a song under ``name``."""

    def run(args: argparse.Namespace) -> dict[str, Any]:
        song = song_named(args.song)
        from arkund.songs import facts

        known: dict[str, Any] = getattr(facts, name)(song)
        return known

    return run


def _log(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import facts, own_figures

    if args.measure:
        for revision in own_figures.unmeasured(song, MOST_MEASURED):
            own_figures.measure(revision)
    return facts.log(song)


def _routes(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.sheet.routes import oddities, routes
    from arkund.songs.timing import sheet_of

    sheet = sheet_of(song)
    return {"routes": routes(sheet), "odd": oddities(sheet)}


def _carries(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import masking

    return masking.carries(song)


def _masking(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import masking, timing

    found = masking.described(timing.sheet_of(song), args.piece)
    if args.json:
        return found
    rows = [
        {"hz": hz, "drum_db": drum, "together_db": both}
        | {f"{mic} %": round(100 * share[n]) for mic, share in found["share"].items()}
        | {f"{name} over it": over[n] for name, over in found["others_db"].items()}
        for n, (hz, drum, both) in enumerate(
            zip(found["hz"], found["drum_db"], found["together_db"], strict=True)
        )
    ]
    offer = found["hand_over"]
    return {"thirds": rows, "said": found["said"]} | ({"offered": offer["patch"]} if offer else {})


def _hits(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import facts

    return facts.hits(song, args.take)


def _findings(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.advise.findings import STATION_OF
    from arkund.songs import findings

    stations = sorted(set(STATION_OF.values()))
    if args.station and args.station not in stations:
        raise ArkundError(f"There is no station “{args.station}”. Stations: {', '.join(stations)}.")
    return findings.listed(song, args.station)


def _ask(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import findings, hits, locks

    if args.piece is not None:
        if args.answer is None:
            raise ArkundError("Say the drum, the moment in seconds, and hit or bleed.")
        with locks.song_lock(song.slug):
            song.refresh_from_db()
            say_it = hits.call_bleed if args.answer == "bleed" else hits.add
            say_it(song, song.current.number, args.piece, args.time_s)
            song.refresh_from_db()
    return {"questions": findings.questions_for_the_ear(findings.study_of_song(song))}


def _first_pass(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import first_pass, jobs, locks, schools

    if args.preview:
        return first_pass.preview(song, args.school, progress=show_progress)
    with locks.song_lock(song.slug):
        schools.choose(song, args.school)
        report = first_pass.run(song, progress=show_progress)
    jobs.record("first-pass", song, report)
    return report


def _card(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import cards

    return cards.card_report(song, args.school)
