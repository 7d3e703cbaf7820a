"""Sheets of the first version render as they did when they were written."""

import json
from pathlib import Path

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.sheet import load
from arkund.core.sheet.upgrade import RENAMED
from arkund.core.units import amplitude_to_db
from tests.core.references import material


@pytest.mark.parametrize("name", sorted(material.documents()))
def test_a_stored_sheet_renders_as_it_did(name: str, tmp_path: Path) -> None:
    sheet = load(json.dumps(material.documents()[name]))
    graph = build(sheet, material.library(list(sheet.mics), tmp_path))
    engine = Engine(sheet.rate, sheet.frames, TileCache())
    kept = np.load(material.HERE / "first-sheets.npz")
    nodes = [key.removeprefix(f"{name}.") for key in kept.files if key.startswith(f"{name}.")]
    assert {"output", "sum", "kick_in", "punch"} <= set(nodes)
    for node in nodes:
        sound = engine.read(graph.node(RENAMED.get(node, node)), 0, sheet.frames)[:: material.EVERY]
        gone = float(np.abs(sound - kept[f"{name}.{node}"]).max())
        assert amplitude_to_db(gone) < -120, node
