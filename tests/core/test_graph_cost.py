"""What a graph costs grows with its edges, and rendering ends when nobody waits."""

from pathlib import Path

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.graph.summing import Mixed
from arkund.core.process.saturation import Saturation
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine, GivenUp
from arkund.core.sheet.channels import Bus, Send
from arkund.core.sheet.sheet import Sheet
from tests.core.test_broken_sound import MICS, RATE, made

BUSES = 40


def with_buses(sheet: Sheet, seed: int, share: float) -> Sheet:
    """Forty buses that take from mics and from a share of the buses before them, without a loop; every
    fifth has a stage."""
    rng, buses = np.random.default_rng(seed), dict[str, Bus]()
    for number in range(BUSES):
        fed_by = [f"b{n}" for n in range(number) if rng.random() < share]
        sends = {name: Send(db=-6, pre=bool(rng.random() < 0.7)) for name in [*fed_by, *MICS[:1]]}
        chain = (Saturation(id="s1", drive_db=3),) if number % 5 == 4 else ()
        buses[f"b{number}"] = Bus(sends=sends, chain=chain, fader_db=-70.0)
    return sheet.model_copy(update={"buses": buses})


@pytest.mark.parametrize(("seed", "share"), [(1, 1.0), (2, 0.6), (3, 0.3)])
def test_cost_is_linear_in_edges(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, seed: int, share: float
) -> None:
    sheet, library = made(tmp_path)
    sheet = with_buses(sheet, seed, share)
    edges = sum(len(bus.sends) for bus in sheet.buses.values()) + 4 * BUSES
    rendered: list[int] = []
    own = Mixed.render

    def counting(self: Mixed, *span: object) -> object:
        rendered.append(len(self.inputs))
        return own(self, *span)  # type: ignore[arg-type]

    monkeypatch.setattr(Mixed, "render", counting)
    graph = build(sheet, library)
    for early in (True, False):
        rendered.clear()
        engine = Engine(RATE, sheet.frames, TileCache(), early=early)
        engine.read(graph.output, 0, RATE // 2)
        # A tile whose stages need what lies before it asks for a span or two more.
        assert sum(rendered) < 6 * edges


def test_a_long_sum_is_what_its_tiles_are(tmp_path: Path) -> None:
    sheet, library = made(tmp_path)
    graph = build(with_buses(sheet, 4, 0.5), library)
    whole = Engine(RATE, sheet.frames, TileCache()).read(graph.sum, -100, sheet.frames)
    engine = Engine(RATE, sheet.frames, TileCache())
    tiles = np.concatenate([engine.tile(graph.sum, n) for n in range(sheet.frames // RATE)])
    assert not whole[:100].any()
    np.testing.assert_allclose(whole[100:], tiles, rtol=0, atol=1e-7)


def test_rendering_stops_when_nobody_waits(tmp_path: Path) -> None:
    sheet, library = made(tmp_path)
    graph, pieces = build(with_buses(sheet, 5, 1.0), library), 0

    def is_given_up() -> bool:
        nonlocal pieces
        pieces += 1
        return pieces > 3

    engine = Engine(RATE, sheet.frames, TileCache()).unless(is_given_up)
    with pytest.raises(GivenUp):
        engine.read(graph.output, 0, sheet.frames)
    assert pieces == 4
    # What was left in the midst is rendered whole by the next who asks.
    assert np.isfinite(Engine(RATE, sheet.frames, engine.cache).read(graph.output, 0, RATE)).all()
