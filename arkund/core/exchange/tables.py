"""Hits and edits as CSV, columns as in docs/formats.md."""

import csv
import io
from collections.abc import Iterable, Sequence

from arkund.core.hits.detect import Hit
from arkund.core.timing.grid import Grid
from arkund.core.timing.moves import EditList

HIT_COLUMNS = ("id", "piece", "time_s", "place", "velocity", "kind", "confidence")
EDIT_COLUMNS = ("id", "pieces", "place", "from_s", "to_s", "moved_ms", "kick_alone_ms", "rule")


def hits_csv(hits: Sequence[Hit], grid: Grid) -> str:
    """Strokes as heard, one a line; ``place`` is bar.beat.hundredths."""
    return _csv(
        HIT_COLUMNS,
        ((h.id, h.piece, f"{h.time_s:.6f}", grid.place(h.time_s), h.velocity, h.kind, h.confidence)
         for h in hits),
    )  # fmt: skip


def edits_csv(edits: EditList, grid: Grid) -> str:
    """Events that were moved, one a line, with the rule that moved them."""
    return _csv(
        EDIT_COLUMNS,
        ((m.id, " ".join(m.pieces), grid.place(m.from_s), f"{m.from_s:.6f}", f"{m.to_s:.6f}",
          f"{m.shift_s * 1000:.3f}", f"{m.kick_s * 1000:.3f}", m.rule)
         for m in edits.moves if m.shift_s or m.kick_s),
    )  # fmt: skip


def _csv(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows(rows)
    return out.getvalue()
