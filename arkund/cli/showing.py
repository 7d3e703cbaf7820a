"""What a command found, for people: short lines and tables. Programs ask for ``--json``."""

import sys
from collections.abc import Mapping, Sequence
from typing import Any

MOST_ROWS = 400
"""A longer table says how much more there is."""

MOST_NAMED = 6
"""More values than this in one place are counted, not named."""

COLUMNS: Mapping[str, Sequence[str]] = {
    "findings": ("id", "state", "reason", "changes"),
    "revisions": ("id", "label", "reason", "station"),
    "hits": ("time_s", "piece", "kind", "velocity", "confidence", "id"),
    "questions": ("piece", "time_s", "bar", "over_bleed_db"),
}
"""The columns of tables of which not all is worth reading; ``--json`` has the rest."""


UNITS = {
    **{"db": "dB", "dbfs": "dBFS", "dbtp": "dBTP", "lufs": "LUFS", "lu": "LU"},
    **{"hz": "Hz", "bpm": "BPM", "s": "s", "ms": "ms", "cm": "cm"},
}
"""How units that names end in are written."""


def show(result: Mapping[str, Any]) -> None:
    """Print a command's result: what is one value as a line, what is a list as a table."""
    from rich.console import Console

    is_seen = sys.stdout.isatty()
    # Where nobody looks, a line is as long as it is: another program may cut it.
    console = Console(highlight=False, soft_wrap=not is_seen, width=None if is_seen else 240)
    for name, value in _side_by_side(result).items():
        _show(console, name, value)


def _side_by_side(result: Mapping[str, Any]) -> dict[str, Any]:
    """The result with long lists of values that are of the same things (wanted, recorded, now) as one
    table."""
    alike = {n: v for n, v in result.items() if isinstance(v, Mapping) and len(v) > MOST_NAMED}
    alike = {n: v for n, v in alike.items() if not any(isinstance(x, Mapping) for x in v.values())}
    if len(alike) < 2:
        return dict(result)
    things = dict.fromkeys(thing for values in alike.values() for thing in values)
    table = [{"": t, **{n: v.get(t) for n, v in alike.items()}} for t in things]
    rest = {n: v for n, v in result.items() if n not in alike}
    return {**{n: v for n, v in rest.items() if _rows(v) is None}, "": table, **rest}


def _show(console: Any, name: str, value: Any) -> None:
    from rich.markup import escape

    rows = _rows(value)
    if rows is None:
        console.print(f"[bold]{_label(name)}[/]: {escape(_words(value))}")
    elif not rows:
        console.print(f"[bold]{_label(name)}[/]: none")
    else:
        console.print(_table(name, rows))
        if len(rows) > MOST_ROWS:
            console.print(f"… and {len(rows) - MOST_ROWS} more (--json has them all)")


def _rows(value: Any) -> list[Mapping[str, Any]] | None:
    """A value as rows of a table; None where it is none."""
    if isinstance(value, Mapping) and value and all(isinstance(v, Mapping) for v in value.values()):
        return [{"": name, **entry} for name, entry in value.items()]
    if isinstance(value, Mapping) and len(value) > MOST_NAMED:
        return [{"": name, " ": entry} for name, entry in value.items()]
    if isinstance(value, list) and all(isinstance(v, Mapping) for v in value):
        return value
    return None


def _table(name: str, rows: Sequence[Mapping[str, Any]]) -> Any:
    from rich import box
    from rich.markup import escape
    from rich.table import Table

    known = dict.fromkeys(column for row in rows for column in row)
    columns = [c for c in COLUMNS.get(name, known) if c in known]
    # A column in which nothing ever stands is none.
    columns = [c for c in columns if any(row.get(c) not in (None, "", [], {}) for row in rows)]
    table = Table(title=_label(name), title_justify="left", title_style="bold", box=box.SIMPLE_HEAD)
    for column in columns:
        is_number = all(_is_number(row.get(column)) for row in rows)
        table.add_column(_label(column), justify="right" if is_number else "left")
    for row in rows[:MOST_ROWS]:
        table.add_row(*(escape(_words(row.get(c))) for c in columns))
    return table


def _is_number(value: Any) -> bool:
    return value is None or (isinstance(value, (int, float)) and not isinstance(value, bool))


def _label(name: str) -> str:
    """A name as people write it; units as they are written."""
    words = name.replace("-", " ").split("_")
    unit = UNITS.get(words[-1])
    if unit is None:
        return " ".join(words)
    return " ".join([*words[:-1], f"({unit})" if words[1:] else unit])


def _words(value: Any) -> str:
    """A value in words."""
    if value is None or value == "":
        return "–"
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, (int, float)):
        text = f"{value:.{3 if abs(value) < 1 else 2 if abs(value) < 100 else 1}f}"
        text = (text.rstrip("0").rstrip(".") if isinstance(value, float) else str(value)) or "0"
        return "0" if text == "-0" else text.replace("-", "−")
    if isinstance(value, Mapping):
        if len(value) > MOST_NAMED:
            return f"{len(value)} values"
        return ", ".join(f"{_label(str(k))} {_words(v)}" for k, v in value.items()) or "none"
    if isinstance(value, (list, tuple)):
        if len(value) > MOST_NAMED or any(isinstance(v, Mapping) for v in value):
            return str(len(value))
        ends = all(isinstance(one, str) and one.endswith((".", "?")) for one in value)
        return (" " if ends else ", ").join(map(_words, value)) or "none"
    return str(value)
