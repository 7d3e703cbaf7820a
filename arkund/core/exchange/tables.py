"""Hits and edits as CSV, columns as in docs/formats.md."""

import csv
import io
import math
import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from arkund.core.errors import ArkundError
from arkund.core.hits.hit import Hit
from arkund.core.timing.grid import Grid
from arkund.core.timing.moves import EditList

HIT_COLUMNS = ("id", "piece", "time_s", "place", "velocity", "kind", "confidence")
EDIT_COLUMNS = ("id", "pieces", "place", "from_s", "to_s", "moved_ms", "kick_alone_ms", "rule")


def hits_csv(hits: Sequence[Hit], grid: Grid) -> str:
    """Strokes as heard, one a line; ``place`` is bar.beat.hundredths."""
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
PIECE = re.compile(r"[a-z]{1,40}(_[0-9]{1,3})?")
KINDS = ("accent", "plain", "ghost", "flam", "roll")


@dataclass(frozen=True)
class HitRow:
    """A stroke as a table states it; ``id``, ``velocity`` and ``kind`` may be left open."""

    id: str
    piece: str
    time_s: float
    velocity: int | None
    kind: str


def read_hits_csv(text: str) -> list[HitRow]:
    """Strokes of a table with the columns ``piece`` and ``time_s`` and, if it has them, ``id``,
    ``velocity`` and ``kind``; others are passed over. Raises `ArkundError` with the line."""
    reader = csv.DictReader(io.StringIO(text.removeprefix("\ufeff")))
    missing = [name for name in ("piece", "time_s") if name not in (reader.fieldnames or ())]
    if missing:
        raise ArkundError(
            f"The file has no column “{missing[0]}”; a list of strokes needs piece and time_s."
        )
    out: list[HitRow] = []
    try:
        for said in reader:
            if len(out) >= MOST_ROWS:
                raise ArkundError(f"The file lists more than {MOST_ROWS} strokes.")
            out.append(_row(said, reader.line_num))
    except csv.Error as error:
        raise ArkundError(f"Line {reader.line_num} of the file cannot be read as CSV.") from error
    if not out:
        raise ArkundError("The file lists no strokes.")
    return out


def _row(said: Mapping[str, str | None], line: int) -> HitRow:
    def told(name: str) -> str:
        return (said.get(name) or "").strip()

    piece, kind = told("piece"), told("kind")
    if not PIECE.fullmatch(piece):
        raise ArkundError(f"Line {line}: “{piece[:40]}” is no piece of a kit.")
    if kind and kind not in KINDS:
        raise ArkundError(
            f"Line {line}: “{kind[:40]}” is no kind of stroke; there are {', '.join(KINDS)}."
        )
    try:
        time_s = float(told("time_s"))
        velocity = round(float(told("velocity"))) if told("velocity") else None
    except (ValueError, OverflowError) as error:
        raise ArkundError(f"Line {line}: time and velocity are numbers.") from error
    if not (math.isfinite(time_s) and 0 <= time_s <= 100_000):
        raise ArkundError(f"Line {line}: a stroke's time lies in the song, in seconds.")
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
