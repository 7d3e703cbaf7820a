"""Hits and edits as CSV, columns as in docs/formats.md."""

import csv
import io
import math
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

from arkund.core.errors import ArkundError
from arkund.core.exchange.bounded import read_bounded
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import parse_mic_name
from arkund.core.sheet.sheet import Section
from arkund.core.timing.grid import LAST_BAR, Grid
from arkund.core.timing.moves import EditList

HIT_COLUMNS = ("id", "piece", "time_s", "place", "velocity", "kind", "confidence")
EDIT_COLUMNS = ("id", "pieces", "place", "from_s", "to_s", "moved_ms", "kick_alone_ms", "rule")


def hits_csv(hits: Sequence[Hit], grid: Grid) -> str:
    """Hits as heard, one a line; ``place`` is bar.beat.hundredths."""
    return _csv(
        HIT_COLUMNS,
        (
            (
                h.id,
                h.piece,
                f"{h.time_s:.6f}",
                grid.place(h.time_s),
                h.velocity,
                h.kind,
                h.confidence,
            )
            for h in hits
        ),
    )


MOST_ROWS = 100_000
LARGEST_BYTES = 32_000_000
PIECE = re.compile(r"[a-z]{1,40}(_[0-9]{1,3})?")
KINDS = ("accent", "plain", "ghost", "flam", "roll")


@dataclass(frozen=True)
class HitRow:
    """A hit as a table states it; ``id``, ``velocity`` and ``kind`` may be left open."""

    id: str
    piece: str
    time_s: float
    velocity: int | None
    kind: str


def read_hits_csv(text: str) -> list[HitRow]:
    """Hits of a table with the columns ``piece`` and ``time_s`` and, if it has them, ``id``,
    ``velocity`` and ``kind``; others are passed over. Raises `ArkundError` with the line."""
    out: list[HitRow] = []
    seen: dict[str, int] = {}
    for line, told in _rows(text, ("piece", "time_s")):
        row = _row(told, line)
        if row.id and (first := seen.setdefault(row.id, line)) != line:
            raise ArkundError(
                f"Lines {first} and {line} of the file both name the hit {row.id[:40]}."
            )
        out.append(row)
    if not out:
        raise ArkundError("The file lists no hits.")
    return out


def read_roles_csv(text: str) -> dict[str, str]:
    """The mic of each file, of a table with the columns ``file`` and ``mic``. Raises `ArkundError` with
    the line."""
    out = {}
    for line, told in _rows(text, ("file", "mic")):
        try:
            out[told("file")] = str(parse_mic_name(told("mic")))
        except ValueError as error:
            raise ArkundError(f"Line {line}: {error}") from None
    return out


def read_sections_csv(text: str) -> tuple[Section, ...]:
    """Sections of a table with the columns ``name``, ``start_bar`` and ``bars``. Raises `ArkundError`
    with the line."""
    out = []
    for line, told in _rows(text, ("name", "start_bar", "bars")):
        try:
            bars = {name: int(told(name)) for name in ("start_bar", "bars")}
            out.append(Section(name=told("name"), **bars))
        except ValueError:
            raise ArkundError(
                f"Line {line}: a section has a name of 1 to 40 letters, and start_bar and bars as "
                f"whole numbers from 1 to {LAST_BAR}."
            ) from None
    return tuple(out)


def read_text(path: Path) -> str:
    """The text of a table's file; raises `ArkundError` where it is larger than `LARGEST_BYTES`, no
    file, or no text in UTF-8."""
    content = read_bounded(path, LARGEST_BYTES)
    try:
        return content.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise ArkundError(
            f"{path.name} is no text in UTF-8; save it as CSV in that encoding."
        ) from None


Told = Callable[[str], str]
"""What a row says in a column, without blanks around it; nothing where it has no such column."""


def _rows(text: str, needed: Sequence[str]) -> Iterator[tuple[int, Told]]:
    """The rows of a table, with the line on which each ends. Raises `ArkundError` where a column is
    missing, there are too many rows, or it cannot be read as CSV."""
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    try:
        missing = [name for name in needed if name not in (reader.fieldnames or ())]
        if missing:
            raise ArkundError(
                f"The file has no column “{missing[0]}”; its first line should name "
                f"{', '.join(needed)}."
            )
        for number, said in enumerate(reader):
            if number >= MOST_ROWS:
                raise ArkundError(f"The file has more than {MOST_ROWS} rows.")
            yield reader.line_num, lambda name, said=said: (said.get(name) or "").strip()  # type: ignore[misc]
    except csv.Error as error:
        raise ArkundError(f"Line {reader.line_num} of the file cannot be read as CSV.") from error


def _row(told: Told, line: int) -> HitRow:
    piece, kind = told("piece"), told("kind")
    if not PIECE.fullmatch(piece):
        raise ArkundError(f"Line {line}: “{piece[:40]}” is no piece of a kit.")
    if kind and kind not in KINDS:
        raise ArkundError(
            f"Line {line}: “{kind[:40]}” is no kind of hit; there are {', '.join(KINDS)}."
        )
    try:
        time_s = float(told("time_s"))
        velocity = round(float(told("velocity"))) if told("velocity") else None
    except (ValueError, OverflowError) as error:
        raise ArkundError(f"Line {line}: time and velocity are numbers.") from error
    if not (math.isfinite(time_s) and 0 <= time_s <= 100_000):
        raise ArkundError(f"Line {line}: a hit's time lies in the song, in seconds.")
    if velocity is not None and not 1 <= velocity <= 127:
        raise ArkundError(f"Line {line}: velocity goes from 1 to 127.")
    return HitRow(told("id"), piece, time_s, velocity, kind)


def edits_csv(edits: EditList, grid: Grid) -> str:
    """Events that were moved, one a line, with the rule that moved them."""
    return _csv(
        EDIT_COLUMNS,
        (
            (
                m.id,
                " ".join(m.pieces),
                grid.place(m.from_s),
                f"{m.from_s:.6f}",
                f"{m.to_s:.6f}",
                f"{m.shift_s * 1000:.3f}",
                f"{m.kick_s * 1000:.3f}",
                m.rule,
            )
            for m in edits.moves
            if m.shift_s or m.kick_s
        ),
    )


def _csv(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows(rows)
    return out.getvalue()
