"""Files out and in."""

import argparse
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from arkund.cli.opening import Add, given_path, say, show_progress, song_named
from arkund.core.errors import ArkundError
from arkund.core.render.wish import FIELDS, KINDS, PATTERN, TAPS, USUAL, Wish

if TYPE_CHECKING:
    from arkund.core.graph.graph import Variant


def register(add: Add) -> None:
    """The commands of this module."""
    _add_rendering(add)
    _add_outboard_and_report(add)
    _add_sheet_and_hits(add)


def _add_rendering(add: Add) -> None:
    sub = add("render", _render, "write a span of a node as 32-bit float WAV")
    sub.add_argument("song")
    sub.add_argument(
        "--node",
        default="output",
        help=(
            "output, sum, a mic (mono, before its fader and pan), a group, a bus, or several joined by + "
            "(each by its fader and pan, as in the mix)"
        ),
    )
    sub.add_argument("--after", default="", metavar="STAGE", help="behind this stage of its chain")
    sub.add_argument("--bars", help="first-last, e.g. 5-12; the whole song by default")
    sub.add_argument("--as-recorded", action="store_true")
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="FILE.wav")
    sub = add("print", _print, "print stems and mix into a folder")
    sub.add_argument("song")
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="DIR")
    sub.add_argument(
        "--stems",
        type=names_listed,
        default=USUAL,
        metavar="KIND,…",
        help=f"some of {_listed(KINDS)}; all but pieces by default",
    )
    sub.add_argument(
        "--format",
        default="wav24",
        help="wav24 (24 bits with dither, the default), wav32f (32-bit float) or flac (24 bits)",
    )
    sub.add_argument("--tap", choices=tuple(TAPS), default="shaped", help=_listed(TAPS))
    sub.add_argument(
        "--only", type=names_listed, default=(), metavar="NAME,…", help="these channels alone"
    )
    sub.add_argument(
        "--pattern",
        default=PATTERN,
        help=f"how files are called, from {' '.join('{' + f + '}' for f in FIELDS)}; e.g. '{{n:02}} {{name}}'",
    )


def _add_outboard_and_report(add: Add) -> None:
    sub = add("outboard", _outboard, "send a channel through a box, and bring it back in place")
    sub.add_argument("song")
    sub.add_argument("--node", required=True, help="a mic, group or bus")
    way = sub.add_mutually_exclusive_group(required=True)
    way.add_argument("--box", help="through a box that ships with Arkund: simulated")
    way.add_argument("--send", type=given_path, metavar="FILE.wav", help="write the file to send")
    way.add_argument(
        "--bring", type=given_path, metavar="FILE.wav", help="what was recorded back of it"
    )
    sub.add_argument(
        "--beside", action="store_true", help="play it beside its source, not instead of it"
    )
    sub = add("report", _report, "write the recall report: all that was set, when and why")
    sub.add_argument("song")
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="FILE.html")


def _add_sheet_and_hits(add: Add) -> None:
    sub = add("export", _export, "write hits, edits, tempo map or sheet to a file")
    sub.add_argument("song")
    sub.add_argument("kind", choices=("midi", "csv", "json", "sfz"))
    sub.add_argument(
        "--least-sure",
        type=float,
        metavar="SHARE",
        help="leave hits out of MIDI that are less sure, 0 to 1",
    )
    sub.add_argument("-o", dest="out", type=given_path, required=True, metavar="PATH")
    sub = add("import-sheet", _import_sheet, "take over the settings of a sheet from a file")
    sub.add_argument("song")
    sub.add_argument("file", type=given_path, metavar="FILE.json")
    sub.add_argument("--list", action="store_true", help="only list what the file sets otherwise")
    sub.add_argument(
        "--only", type=names_listed, default=(), metavar="PATH,…", help="take over these alone"
    )
    sub = add("import-hits", _import_hits, "make the hit list what a CSV or MIDI file says")
    sub.add_argument("song")
    sub.add_argument("file", type=given_path, metavar="FILE.csv|FILE.mid")
    sub.add_argument(
        "--map",
        default="",
        metavar="NOTE=PIECE,…",
        help="which drum a MIDI note is, e.g. 39=snare; 39= leaves it out",
    )
    sub.add_argument(
        "--begins",
        type=float,
        metavar="S",
        help="where the MIDI file begins in the song; found by the sound otherwise",
    )


def names_listed(text: str) -> tuple[str, ...]:
    """Names with commas between them."""
    return tuple(name.strip() for name in text.split(",") if name.strip())


def _listed(meanings: Mapping[str, str]) -> str:
    return "; ".join(f"{name} ({meaning})" for name, meaning in meanings.items())


def _render(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    import soundfile as sf

    from arkund.songs import rendering, timing

    sheet = timing.sheet_of(song)
    start, stop = span_said(args.bars, sheet, rendering.grid_of(sheet))
    variant: Variant = "recorded" if args.as_recorded else "now"
    sound = rendering.render_span(
        sheet,
        args.node,
        variant,
        start,
        stop,
        args.after,
        rendering.exact_engine(sheet),
    )
    rendering.refuse_broken_in(sheet, variant)
    part = args.out.with_name(args.out.name + ".part")
    sf.write(str(part), sound, sheet.rate, subtype="FLOAT", format="WAV")
    part.replace(args.out)
    return {"file": str(args.out), "frames": len(sound), "rate": sheet.rate}


def span_said(bars: str | None, sheet: Any, grid: Any) -> tuple[int, int]:
    """The samples of a run of bars as it is typed; of the whole song where none is."""
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
    song = song_named(args.song)
    from arkund.songs import locks, prints

    wish = Wish(args.stems, args.tap, args.only, pattern=args.pattern)
    with locks.song_lock(song.slug):
        report = prints.print_to_folder(
            song,
            song.current,
            args.out,
            wish=wish,
            file_format=args.format,
            progress=lambda share: show_progress(share, "printing"),
        )
    for stem, count in report.over.items():
        say(f"{stem}: {count} samples over full scale.")
    same = sum(stem.is_recording for stem in report.stems)
    if same:
        say(f"{same} of {len(report.stems)} files are the recording, sample for sample.")
    return {
        "files": report.files,
        "null_db": report.null_db,
        "peak_dbfs": report.peak_dbfs,
        "loudness_lufs": report.loudness_lufs,
        "over": report.over,
    }


def _outboard(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, outboard

    with locks.song_lock(song.slug):
        if args.send:
            made = outboard.send(song, args.node, args.send, show_progress)
            return {"file": str(args.send), "node": made.node, "lowered_db": made.gain_db}
        if args.box:
            if args.box not in outboard.BOXES:
                raise ArkundError(
                    f"There is no box “{args.box}”. There are: {', '.join(outboard.BOXES)}."
                )
            brought = outboard.through_box(
                song,
                args.node,
                outboard.BOXES[args.box],
                instead=not args.beside,
                progress=show_progress,
            )
            return brought.as_dict()
        sending = song.sendings.filter(node=args.node).first()
        if sending is None:
            raise ArkundError(f"{args.node} was not sent yet: write the file with --send first.")
        assert song.current is not None
        return outboard.bring_back(
            song,
            song.current.number,
            sending,
            args.bring,
            args.bring.name,
            instead=not args.beside,
            progress=show_progress,
        ).as_dict()


def _report(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.bench import report

    if not args.out.parent.is_dir():
        raise ArkundError(f"There is no folder {args.out.parent} to write into.")
    return {"file": str(args.out), "bytes": report.written(song, args.out)}


def _export(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.hits.confidence import EXPORTED
    from arkund.songs import exports, timing

    least = EXPORTED if args.least_sure is None else args.least_sure
    if not 0 <= least <= 1:
        raise ArkundError("How sure a hit must be is a share from 0 to 1, e.g. 0.6.")
    left = exports.doubtful(timing.sheet_of(song), least) if args.kind == "midi" else 0
    if left:
        many = "hit" if left == 1 else "hits"
        say(f"{left} {many} less than {least:.0%} sure {'is' if left == 1 else 'are'} left out.")
    files = exports.export(song, args.kind, args.out, least)
    return {"files": [str(p) for p in files], "left_out": left}


def _import_sheet(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.songs import locks, sheet_in

    theirs = sheet_in.read(args.file)
    if args.list:
        found = sheet_in.offers(song, theirs, args.file.name)
        return {
            "offers": [
                {"path": o.path, "what": f"{o.whose}: {o.what}", "differences": list(o.rows)}
                for o in found
            ]
        }
    with locks.song_lock(song.slug):
        made = sheet_in.take_over(song, theirs, args.file.name, args.only or None)
    return {"revision": made.number, "label": made.label}


def _import_hits(args: argparse.Namespace) -> dict[str, Any]:
    song = song_named(args.song)
    from arkund.core.exchange.midi_hits import read_map
    from arkund.songs import exports, locks

    with locks.song_lock(song.slug):
        made = exports.import_hits(song, args.file, pieces=read_map(args.map), begins_s=args.begins)
    return {"revision": made.number, "label": made.label}
