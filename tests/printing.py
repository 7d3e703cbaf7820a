"""Prints of graphs that no song is stored for."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from arkund.core.graph.graph import Graph
from arkund.core.render.engine import Engine
from arkund.core.render.printing import PrintReport, print_song
from arkund.core.render.stems import stems_of
from arkund.core.render.wish import USUAL, Wish


def printed(
    engine: Engine, graph: Graph, folder: Path, kinds: Sequence[str] = USUAL, **more: Any
) -> PrintReport:
    """A print whose files bear the channels' names alone."""
    wish = Wish(kinds, more.get("tap", "shaped"), pattern="{name}")
    return print_song(engine, graph, stems_of(graph, wish, song="song"), folder, **more)
