"""The command line: a thin face over core and songs.

Every command takes ``--json``. Messages go to standard error; exit 0 on success, 2 on bad usage,
1 on a failure, with one clear line.
"""

import argparse
import json
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from arkund.core.errors import ArkundError


def main(arguments: list[str] | None = None) -> int:
    """Entry of the ``arkund`` command; returns its exit code."""
    parser = _parser()
    args = parser.parse_args(arguments)
    try:
        result = args.run(args)
        if result is not None:
            text = json.dumps(result, indent=None if args.json else 1, ensure_ascii=False)
            print(text, flush=True)
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

    from arkund.core.mix.sheet import first_complaint

    if isinstance(error, ArkundError):
        return str(error)
    if isinstance(error, ValidationError):
        return first_complaint(error)
    from arkund.songs.disk import disk_words

    if words := disk_words(error):
        return words
    if isinstance(error, OSError):
        return f"{error.filename or 'The disk'}: {error.strerror}."
    return str(error) if isinstance(error, ValueError) else ""


def say(text: str) -> None:
    """A message for the person at the terminal."""
    print(text, file=sys.stderr)


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="arkund", description=__doc__.split("\n")[0])
    commands = parser.add_subparsers(dest="command", required=True, metavar="command")

    def add(name: str, run: Callable[[argparse.Namespace], Any], about: str) -> Any:
        sub = commands.add_parser(name, help=about, description=about)
        sub.add_argument("--json", action="store_true", help="machine-readable, on one line")
        sub.set_defaults(run=run)
        return sub

    demo = add("demo", _demo, "make the demo song if missing, start web and worker")
    serve = add("serve", _serve, "start the web part alone")
    for sub in (demo, serve):
        sub.add_argument("--port", type=int, default=8000)
        sub.add_argument("--host", default="127.0.0.1", help="address to listen on (loopback)")
    demo.add_argument("--no-browser", action="store_true")
    add("worker", _worker, "start the worker alone")
    sub = add("simulate", _simulate, "write a simulated recording and truth.json")
    sub.add_argument("dir", type=Path)
    sub.add_argument("--preset", default="copper")
    sub.add_argument("--seed", type=int, default=1)
    sub.add_argument("--bars", type=int, help="only the first bars")
    sub.add_argument("--takes", type=int, help="only the first takes; all of the preset by default")
    sub.add_argument("--stems", action="store_true", help="also each mic's share of each piece")
    sub = add("new", _new, "make a song from a folder of mics")
    sub.add_argument("name")
    sub.add_argument("--from", dest="source", type=Path, required=True, metavar="DIR")
    sub.add_argument("--tempo", type=float)
    sub.add_argument("--meter", default="4/4")
    sub.add_argument("--roles", type=Path, metavar="FILE.csv")
    sub.add_argument("--sections", type=Path, metavar="FILE.csv")
    sub.add_argument("--resample", type=int, metavar="HZ")
    sub.add_argument("--pad", action="store_true")
    sub.add_argument("--stereo", choices=("left", "right", "sum"), default="")
    sub.add_argument("--skip-bad", action="store_true")
    add("songs", _songs, "list the songs")
    for name, run, about in (
        ("show", _fact("show"), "a song's mics, takes and sections"),
        ("measure", _fact("measures"), "levels of every mic"),
        ("carries", _fact("carries"), "who carries each piece, and who owns the low end"),
        ("log", _fact("log"), "the revisions that lead to the present sheet"),
        ("undo", _undo, "back to the revision before"),
        ("redo", _redo, "forward again"),
    ):
        add(name, run, about).add_argument("song")
    sub = add("trim", _trim, "trim mics by the same dB, so that their relation stays")
    sub.add_argument("song")
    sub.add_argument("by_db", type=float, metavar="DB")
    sub.add_argument("mics", nargs="+", metavar="MIC")
    add("mirror", _mirror, "pan every mic to the other side").add_argument("song")
    sub = add("align", _align, "delay and polarity of every pair, or one solution for all")
    sub.add_argument("song")
    sub.add_argument(
        "--solve",
        action="store_true",
        help="one shift a mic that serves all pairs, what is left, the snare's centre",
    )
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
    sub = add("set-up", _set_up, "correct what a mic is, leave it out, or put a file under it")
    sub.add_argument("song")
    sub.add_argument("mic")
    sub.add_argument("--as", dest="name", metavar="MIC", help="what it is instead")
    sub.add_argument("--swap", action="store_true", help="whoever is that becomes this one")
    sub.add_argument("--unused", metavar="WHY", help="leave it out of everything, with a reason")
    sub.add_argument("--in-use", action="store_true", help="take it in again")
    sub.add_argument("--overdub", choices=("yes", "no"), help="recorded by itself, or with the kit")
    sub.add_argument("--file", type=Path, help="a file for it; adds the mic where there is none")
    sub.add_argument("--take", type=int, default=1, help="the take that the file belongs to")
    sub.add_argument("--stereo", choices=("left", "right", "sum"), default="mono")
    sub = add("findings", _findings, "what was found and is proposed")
    sub.add_argument("song")
    sub.add_argument("--station", default="", help="of one station, e.g. align")
    sub = add("first-pass", _first_pass, "apply all findings of a school, each its own revision")
    sub.add_argument("song")
    sub.add_argument("--school", required=True, help="tight, natural, open, or an own school")
    sub.add_argument("--preview", action="store_true", help="say what it would do; change nothing")
    sub = add("card", _card, "the punch card: wanted, as recorded, now, and without each stage")
    sub.add_argument("song")
    sub.add_argument("--school", default="", help="whose goal; the song's own by default")
    sub = add("harvest", _harvest, "a piece's strokes as samples, the best isolated first")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument("-o", dest="out", type=Path, metavar="DIR", help="write the sample set there")
    sub = add("layer", _layer, "lay samples under a piece's strokes, or play them instead")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument(
        "--from",
        dest="source",
        default="song",
        help="song (its own strokes), simulated, stock:NAME, a folder of samples, a one-shot "
        "recording, or FILE.sfz",
    )
    sub.add_argument("--mode", choices=("under", "instead"), default="under")
    sub.add_argument("--strokes", default="accents", help="accents, all, or velocities: 20-127")
    sub.add_argument("--blend-db", type=float, help="its fader")
    sub = add("stock", _stock, "strokes that go from song to song: list, keep a piece's, take out")
    sub.add_argument("song", nargs="?", help="whose strokes are kept")
    sub.add_argument("piece", nargs="?", help="which piece's")
    sub.add_argument("--name", default="", help="what the set is called")
    sub.add_argument(
        "--from",
        dest="source",
        type=Path,
        metavar="FILE",
        help="keep a folder of samples, a one-shot recording or an SFZ kit for the piece",
    )
    sub.add_argument("--take-out", default="", metavar="NAME", help="take a set out")
    sub = add("sub", _sub, "lay a tone under a piece's strokes")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument("--note", default="auto", help="auto, a note such as C1, or 50Hz")
    sub.add_argument("--strokes", default="all", help="accents, all, or velocities: 20-127")
    sub.add_argument("--blend-db", type=float, help="its fader")
    sub.add_argument(
        "--crossover",
        default="off",
        metavar="off|auto|HZ",
        help="the sub alone below it, the drum's close mics alone above it",
    )
    sub = add("sample", _sample, "cut and fade one sample of a layer")
    sub.add_argument("song")
    sub.add_argument("layer", help="its name in the sheet, e.g. snare_layer")
    sub.add_argument("number", type=int, help="the sample, counted from 1")
    sub.add_argument("--length-ms", type=float, help="from its stroke on")
    sub.add_argument("--fade-in-ms", type=float)
    sub.add_argument("--fade-out-ms", type=float)
    sub = add("even", _even, "bring a piece's strokes nearer to their like")
    sub.add_argument("song")
    sub.add_argument("piece")
    sub.add_argument("--amount", type=float, required=True, help="0 to 1; 0 leaves them alone")
    sub = add("patch", _patch, "replace a bad stroke in all mics by one that matches it")
    sub.add_argument("song")
    sub.add_argument("hit", help="its id, as `arkund hits` lists it")
    sub.add_argument(
        "--with", dest="by", default="", metavar="HIT", help="the best match by default"
    )
    sub.add_argument("--matches", action="store_true", help="list what would match; change nothing")
    sub = add("hits", _hits, "the strokes of a take")
    sub.add_argument("song")
    sub.add_argument("--take", type=int, default=1)
    sub = add("set", _set, "change one value of the sheet")
    sub.add_argument("song")
    sub.add_argument("path")
    sub.add_argument(
        "value", help='JSON, e.g. -32, true, "threshold"; null takes a stage or bus away'
    )
    add("processors", _processors, "every processor with its values, ranges and units")
    sub = add("render", _render, "write a span of a node as 32-bit float WAV")
    sub.add_argument("song")
    sub.add_argument(
        "--node",
        default="output",
        help="output, sum, a mic, a group, a bus, or several joined by +",
    )
    sub.add_argument("--after", default="", metavar="STAGE", help="behind this stage of its chain")
    sub.add_argument("--bars", help="first-last, e.g. 5-12; the whole song by default")
    sub.add_argument("--as-recorded", action="store_true")
    sub.add_argument("-o", dest="out", type=Path, required=True, metavar="FILE.wav")
    sub = add("export", _export, "write hits, edits, tempo map or sheet to a file")
    sub.add_argument("song")
    sub.add_argument("kind", choices=("midi", "csv", "json", "sfz"))
    sub.add_argument(
        "--least-sure",
        type=float,
        metavar="SHARE",
        help="leave strokes out of MIDI that are less sure, 0 to 1",
    )
    sub.add_argument("-o", dest="out", type=Path, required=True, metavar="PATH")
    sub = add("import-sheet", _import_sheet, "take over the settings of a sheet from a file")
    sub.add_argument("song")
    sub.add_argument("file", type=Path, metavar="FILE.json")
    sub = add("import-hits", _import_hits, "make the hit list what a CSV file says")
    sub.add_argument("song")
    sub.add_argument("file", type=Path, metavar="FILE.csv")
    sub = add("tempo", _tempo, "take over the tempo map of a MIDI file, or find a drifting one")
    sub.add_argument("song")
    sub.add_argument("--midi", type=Path, metavar="FILE.mid")
    sub.add_argument("--drifting", action="store_true", help="bar by bar from the strokes")
    sub = add("check", _check, "verify database, files and references; exit 1 where one is wrong")
    sub.add_argument("--mend", action="store_true", help="do what it says could be done")
    sub = add("restore", _restore, "put the newest whole copy of the database in its place")
    sub.add_argument("--copy", default="", metavar="NAME", help="this copy instead")
    sub.add_argument("--list", action="store_true", help="only list the copies")
    sub = add("print", _print, "print stems and mix into a folder")
    sub.add_argument("song")
    sub.add_argument("-o", dest="out", type=Path, required=True, metavar="DIR")
    sub.add_argument("--stems", default="mics,groups,parallel,mix")
    sub.add_argument("--format", default="wav24")
    return parser


def _django(*, migrate: bool = True) -> None:
    """Set Django up and bring the database to the present schema."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
    import django

    django.setup()
    if migrate:
        from arkund.songs.upgrading import bring_up_to_date

        bring_up_to_date()


def _song(slug: str) -> Any:
    _django()
    from arkund.songs.models import Song

    song = Song.objects.select_related("current").filter(slug=slug).first()
    if song is None:
        known = ", ".join(Song.objects.values_list("slug", flat=True)) or "none yet"
        raise ArkundError(f"There is no song “{slug}”. Songs: {known}.")
    return song


def _progress(share: float, what: str) -> None:
    if sys.stderr.isatty():
        print(f"\r{share:4.0%} {what:<50.50}", end="\n" if share >= 1 else "", file=sys.stderr)


def _demo(args: argparse.Namespace) -> None:
    _django()
    from arkund.songs.demo import make_demo
    from arkund.songs.running import refuse_running, run_both

    refuse_running(args.host, args.port)
    slug = make_demo(_progress)
    run_both(args.host, args.port, f"/{slug}/", open_browser=not args.no_browser)


def _serve(args: argparse.Namespace) -> None:
    _django()
    from arkund.songs.running import serve

    serve(args.host, args.port)


def _worker(args: argparse.Namespace) -> None:
    _django()
    from arkund.songs.running import work

    work()


def _simulate(args: argparse.Namespace) -> dict[str, Any]:
    from arkund.core.simulate.session import write_recording

    session = write_recording(
        args.preset,
        args.seed,
        args.dir,
        takes=args.takes,
        bars=args.bars,
        keep_stems=args.stems,
        progress=_progress,
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
    _django()
    from arkund.songs import importing, incoming

    roles = incoming.read_roles(args.roles) if args.roles else {}
    sections = incoming.read_sections(args.sections) if args.sections else ()
    wishes = importing.Wishes(
        args.name, args.tempo, args.meter, None, sections, args.resample, args.pad, args.stereo
    )
    files = incoming.files_of(args.source)
    found = incoming.guess_incoming(files, roles, args.stereo)
    song, refused = importing.import_song(found, wishes, skip_bad=args.skip_bad, progress=_progress)
    for entry in refused:
        say(f"Left out {entry['file']}: {entry['reason']}")
    return {"song": song.slug, "refused": refused}


def _songs(args: argparse.Namespace) -> dict[str, Any]:
    _django()
    from arkund.songs.models import Song

    return {"songs": [{"song": s.slug, "name": s.name} for s in Song.objects.all()]}


def _fact(name: str) -> Callable[[argparse.Namespace], dict[str, Any]]:
    """A command that prints what `arkund.songs.facts` knows of a song under ``name``."""

    def run(args: argparse.Namespace) -> dict[str, Any]:
        song = _song(args.song)
        from arkund.songs import facts

        known: dict[str, Any] = getattr(facts, name)(song)
        return known

    return run


def _hits(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import facts

    return facts.hits(song, args.take)


def _findings(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.core.advise.findings import STATION_OF
    from arkund.songs import findings

    stations = sorted(set(STATION_OF.values()))
    if args.station and args.station not in stations:
        raise ArkundError(f"There is no station “{args.station}”. Stations: {', '.join(stations)}.")
    return findings.listed(song, args.station)


def _first_pass(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import first_pass, jobs, locks, schools

    if args.preview:
        return first_pass.preview(song, args.school, progress=_progress)
    with locks.song_lock(song.slug):
        schools.choose(song, args.school)
        report = first_pass.run(song, progress=_progress)
    jobs.record("first-pass", song, report)
    return report


def _card(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import cards

    return cards.card_report(song, args.school)


def _set(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, revisions

    try:
        value = json.loads(args.value)
    except json.JSONDecodeError:
        value = args.value
    with locks.song_lock(song.slug):
        made = revisions.keep(song.pk, song.current.number, {args.path: value})
    return {"revision": made.number, "label": made.label}


def _harvest(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import replacing

    return replacing.harvest(song, args.piece, args.out)


def _layer(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.layer(
            song, args.piece, args.source, args.mode, args.strokes, args.blend_db
        )
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
        song = _song(args.song)
        if args.source is None:
            stock.keep_own(song, args.piece, args.name)
        else:
            _, note = stock.keep_files(song, args.piece, args.source, args.name)
            if note:
                say(note)
    return {"stock": stock.listed()}


def _sub(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.sub(
            song, args.piece, args.note, args.strokes, args.blend_db, args.crossover
        )
    return {"revision": made.number, "label": made.label}


def _sample(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
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
    song = _song(args.song)
    from arkund.songs import locks, replacing

    with locks.song_lock(song.slug):
        made = replacing.even(song, args.piece, args.amount)
    return {"revision": made.number, "label": made.label}


def _patch(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, replacing

    if args.matches:
        return replacing.stand_ins(song, args.hit)
    with locks.song_lock(song.slug):
        made = replacing.patch_stroke(song, args.hit, args.by)
    return {"revision": made.number, "label": made.label}


def _processors(args: argparse.Namespace) -> dict[str, Any]:
    from arkund.core.process.registry import catalogue

    return {"processors": catalogue()}


def _align(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import aligning, facts

    return aligning.solve(song, args.onto) if args.solve else facts.pairs(song)


def _trim(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import levelling

    made = levelling.trim_together(song, args.mics, args.by_db)
    return {"revision": made.number, "label": made.label}


def _mirror(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import levelling

    made = levelling.mirror(song)
    return {"revision": made.number, "label": made.label}


def _passages(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import passages
    from arkund.songs.timing import sheet_of

    return passages.described(sheet_of(song), args.piece)


def _clean(args: argparse.Namespace) -> Any:
    song = _song(args.song)
    from arkund.songs import by_hand, facts

    if args.by_hand:
        made = by_hand.derive(song, args.by_hand)
        return {"revision": made.number, "regions": by_hand.described(song, args.by_hand)}
    return facts.gates(song)


def _set_up(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
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
        made = set_up.correct(song, song.current.number, wanted, _progress)
    return {"revision": made.number, "label": made.label}


def _render(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    import soundfile as sf

    from arkund.songs import rendering, timing

    sheet = timing.sheet_of(song)
    start, stop = _span(args.bars, sheet, rendering.grid_of(sheet))
    variant = "recorded" if args.as_recorded else "now"
    sound = rendering.render_span(
        sheet,
        args.node,
        variant,
        start,
        stop,
        args.after,  # type: ignore[arg-type]
        rendering.exact_engine(sheet),
    )
    part = args.out.with_name(args.out.name + ".part")
    sf.write(str(part), sound, sheet.rate, subtype="FLOAT", format="WAV")
    part.replace(args.out)
    return {"file": str(args.out), "frames": len(sound), "rate": sheet.rate}


def _span(bars: str | None, sheet: Any, grid: Any) -> tuple[int, int]:
    if not bars:
        return 0, sheet.frames
    try:
        first, last = (int(part) for part in bars.split("-"))
    except ValueError:
        raise ArkundError(f"“{bars}” is not a run of bars such as 5-12.") from None
    if first < 1 or last < first:
        raise ArkundError(f"“{bars}” is not a run of bars such as 5-12.")
    start, stop = grid.frames_of_bars(first, last, sheet.rate)
    if start >= sheet.frames:
        raise ArkundError(f"The song ends before bar {first}.")
    return start, min(stop, sheet.frames)


def _print(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, prints

    stems = [s.strip() for s in args.stems.split(",") if s.strip()]
    with locks.song_lock(song.slug):
        report = prints.print_to_folder(
            song,
            song.current,
            args.out,
            stems=stems,
            file_format=args.format,
            progress=lambda share: _progress(share, "printing"),
        )
    for stem, count in report.over.items():
        say(f"{stem}: {count} samples over full scale.")
    return {
        "files": report.files,
        "null_db": report.null_db,
        "peak_dbfs": report.peak_dbfs,
        "loudness_lufs": report.loudness_lufs,
        "over": report.over,
    }


def _export(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import exports, timing

    least = exports.EXPORTED if args.least_sure is None else args.least_sure
    if not 0 <= least <= 1:
        raise ArkundError("How sure a stroke must be is a share from 0 to 1, e.g. 0.6.")
    left = exports.doubtful(timing.sheet_of(song), least) if args.kind == "midi" else 0
    if left:
        many = "stroke" if left == 1 else "strokes"
        say(f"{left} {many} less than {least:.0%} sure {'is' if left == 1 else 'are'} left out.")
    files = exports.export(song, args.kind, args.out, least)
    return {"files": [str(p) for p in files], "left_out": left}


def _import_sheet(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import exports, locks

    with locks.song_lock(song.slug):
        made = exports.import_sheet(song, args.file)
    return {"revision": made.number, "label": made.label}


def _import_hits(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import exports, locks

    with locks.song_lock(song.slug):
        made = exports.import_hits(song, args.file)
    return {"revision": made.number, "label": made.label}


def _check(args: argparse.Namespace) -> dict[str, Any]:
    _django(migrate=False)
    from arkund.songs.checking import check

    report = check(mend=args.mend, progress=_progress)
    for line in report.lines:
        say(line)
    say(report.summary)
    return report.as_dict()


def _restore(args: argparse.Namespace) -> dict[str, Any]:
    _django(migrate=False)
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


def _tempo(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import locks, tempo

    if bool(args.midi) == args.drifting:
        raise ArkundError("Say either --midi FILE.mid or --drifting.")
    with locks.song_lock(song.slug):
        made = tempo.from_midi(song, args.midi) if args.midi else tempo.drifting(song)
    return {"revision": made.number, "label": made.label}


def _undo(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import facts, revisions

    revisions.undo(song.pk)
    song.refresh_from_db()
    return facts.log(song)


def _redo(args: argparse.Namespace) -> dict[str, Any]:
    song = _song(args.song)
    from arkund.songs import facts, revisions

    revisions.redo(song.pk)
    song.refresh_from_db()
    return facts.log(song)
