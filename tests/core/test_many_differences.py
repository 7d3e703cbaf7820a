"""Thirty differences in ten sections: no border is heard as a click, and a change of one renders its span alone."""

from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.process.compressor import Compressor
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import Bus, Send
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import Tempo
from tests.core.test_differences import THRESHOLD, WHAT
from tests.core.written_song import written_song

RATE, SECTIONS, LONG = 8000, 10, 8
BAR = RATE * 2
RAMPS_MS = (10.0, 50.0, 300.0)


class Counting(TileCache):
    """Counts what is rendered."""

    rendered = 0

    def put(self, *args: Any, **named: Any) -> Any:
        self.rendered += 1
        return super().put(*args, **named)


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library]:
    time = np.arange(BAR * SECTIONS * LONG) / RATE
    sounds = {
        mic: 0.3 * np.sin(2 * np.pi * (70 + 23 * n) * time) + 0.1 * np.sin(2 * np.pi * 190 * time)
        for n, mic in enumerate(("kick_in", "snare_top", "overhead_l", "overhead_r"))
    }
    punch = Bus(sends={"snare_top": Send()}, chain=(Compressor(threshold_db=-30),), fader_db=-6)
    sheet, paths = written_song(
        tmp_path_factory.mktemp("song"), sounds, RATE, buses={"punch": punch}, tempo=Tempo(bpm=120)
    )
    parts = [
        {"name": f"part {n + 1}", "start_bar": n * LONG + 1, "bars": LONG} for n in range(SECTIONS)
    ]
    on = {
        "sections": parts,
        "mics.snare_top.chain.compressor.on": True,
        "mics.overhead_l.chain.eq.bands.b2.on": True,
    }
    return apply_patch(sheet, on), Library(paths.__getitem__, lambda digest: ())


def drawn() -> Iterator[dict[str, Any]]:
    """Three in each section: some over all of it, some within; no path twice in one."""
    rng = np.random.default_rng(41)
    for n in range(SECTIONS):
        for m in rng.choice(len(WHAT), 3, replace=False):
            first = n * LONG + 1 + int(rng.integers(0, 3))
            last = (n + 1) * LONG - int(rng.integers(0, 3))
            path, value = WHAT[m]
            ramp = float(rng.choice(RAMPS_MS))
            yield {"path": path, "value": value, "bars": f"{first}-{last}", "ramp_ms": ramp}


@pytest.fixture(scope="module")
def thirty(song: tuple[Sheet, Library]) -> Sheet:
    return apply_patch(song[0], {f"over.d{n}": one for n, one in enumerate(drawn())})


def test_every_border_of_thirty_is_clean(song: tuple[Sheet, Library], thirty: Sheet) -> None:
    """The largest second difference within a ramp against the 99.9th percentile around it."""
    assert len(thirty.over) == 30
    sound = Engine(RATE, thirty.frames, TileCache()).read(
        build(thirty, song[1]).output, 0, thirty.frames
    )
    curve = np.abs(np.diff(sound, 2, axis=0)).max(axis=1)
    edges = {
        (at, over.ramp_ms)
        for over in thirty.over
        for first, last in over.spans
        for at in ((first - 1) * BAR, last * BAR)
        if 0 < at < thirty.frames
    }
    places = sorted(at for at, _ in edges)
    assert len(places) > 30
    for at, ramp_ms in edges:
        # Where several meet, the longest ramp is theirs.
        ramp = round(max(r for a, r in edges if a == at) * RATE / 1000)
        around = np.concatenate([curve[at - BAR // 2 : at - 8], curve[at + ramp + 8 :][: BAR // 2]])
        assert curve[at - 4 : at + ramp + 4].max() <= 1.5 * np.quantile(around, 0.999), (
            at,
            ramp_ms,
        )


def test_a_change_of_one_renders_its_span_alone(song: tuple[Sheet, Library], thirty: Sheet) -> None:
    """As one hears it, in stretches of the song (`core/render/stretches.py`)."""
    cache = Counting()

    def render(sheet: Sheet) -> int:
        before = cache.rendered
        engine = Engine(RATE, sheet.frames, cache, early=True)
        engine.read(build(sheet, song[1]).output, 0, sheet.frames)
        return cache.rendered - before

    whole = render(thirty)
    # A fader is no more than a sum; a threshold has to be rendered.
    one = next(o for o in thirty.over if o.path == THRESHOLD)
    changed = render(apply_patch(thirty, {f"over.{one.id}.value": -41.0}))
    assert 0 < changed < 2 * whole / SECTIONS, (changed, whole)
    assert render(thirty) == 0
