"""Sound that is not a number: silence with a sentence for who listens, a refusal for who prints."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.graph.graph import Graph
from arkund.core.process.registry import PROCESSORS
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import processor_of
from arkund.core.render.cache import DiskStore, TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.faults import BrokenSound, faults
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import Tempo
from tests.core.written_song import written_song
from tests.printing import printed

RATE, SECONDS = 8000, 12
MICS = ("kick_in", "snare_top")


def made(folder: Path, broken_at: int | None = None) -> tuple[Sheet, Library]:
    """Twelve seconds of noise in two mics; the kick's file holds one infinite sample."""
    rng = np.random.default_rng(5)
    sounds = {m: 0.1 * rng.standard_normal(RATE * SECONDS) for m in MICS}
    if broken_at is not None:
        sounds["kick_in"][broken_at] = np.inf
    sheet, paths = written_song(folder, sounds, RATE, tempo=Tempo(bpm=120))

    def no_edits(digest: str) -> Any:
        raise KeyError(digest)

    return sheet, Library(paths.__getitem__, lambda digest: [], no_edits)


def read_all(engine: Engine, graph: Graph) -> np.ndarray[Any, Any]:
    return np.concatenate([engine.tile(graph.output, n) for n in range(SECONDS)])


@pytest.fixture
def breaking(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A saturation that gives no numbers once it hears more than 0.35."""
    own = Saturation.process

    def process(self: Saturation, rate: int) -> Any:
        inner = own(self, rate)

        class Breaking:
            latency, memory = inner.latency, inner.memory
            settings, at_rest = staticmethod(inner.settings), staticmethod(inner.at_rest)

            def run(self, audio: Any, state: Any, key: Any = None, at: int = 0) -> Any:
                out = inner.run(audio, state)
                if np.abs(audio).max(initial=0.0) > 0.35:
                    out = np.array(out)
                    out[-5:] = np.nan
                    state[...] = np.nan
                return out

        return Breaking()

    monkeypatch.setattr(Saturation, "process", process)
    # Processors are remembered by their settings; no other test may get this one.
    processor_of.cache_clear()
    yield
    processor_of.cache_clear()


def test_an_infinite_sample_of_a_file_is_silent_and_named(tmp_path: Path) -> None:
    sheet, library = made(tmp_path, broken_at=4 * RATE + 17)
    cache, graph = TileCache(), build(sheet, library)
    engine = Engine(RATE, sheet.frames, cache)
    sound = read_all(engine, graph)
    assert np.isfinite(sound).all()
    assert np.abs(sound[4 * RATE + 100 : 5 * RATE]).max() > 0.05, "only the sample is silent"
    (fault,) = faults(graph, cache, RATE)
    assert (fault.channel, fault.stage) == ("kick_in", "")
    assert fault.at_s == pytest.approx(4 + 17 / RATE)
    assert "Kick in" in fault.sentence


@pytest.mark.usefixtures("breaking")
def test_a_stage_that_breaks_is_named_and_begins_anew(tmp_path: Path) -> None:
    sheet, library = made(tmp_path)
    stage = {"kind": "saturation", "drive_db": 12}
    sheet = apply_patch(sheet, {"mics.snare_top.chain.s1": stage})
    cache, graph = TileCache(), build(sheet, library)
    sound = read_all(Engine(RATE, sheet.frames, cache), graph)
    assert np.isfinite(sound).all()
    (fault,) = faults(graph, cache, RATE)
    assert (fault.channel, fault.stage) == ("snare_top", Saturation.label)
    again = Engine(RATE, sheet.frames, cache, early=True)
    assert np.isfinite(again.read(graph.mics["snare_top"].shaped, 0, sheet.frames)).all()


@pytest.mark.usefixtures("breaking")
def test_a_print_of_what_is_broken_fails_and_leaves_no_file(tmp_path: Path) -> None:
    sheet, library = made(tmp_path)
    stage = {"kind": "saturation", "drive_db": 12}
    sheet = apply_patch(sheet, {"mics.snare_top.chain.s1": stage})
    engine = Engine(RATE, sheet.frames, TileCache())
    with pytest.raises(BrokenSound, match="Snare top, saturation"):
        printed(engine, build(sheet, library), tmp_path / "out")
    assert not [p for p in (tmp_path / "out").rglob("*") if p.is_file()]


def test_what_was_made_of_broken_sound_is_not_kept_on_disk(tmp_path: Path) -> None:
    sheet, library = made(tmp_path, broken_at=100)
    sheet = apply_patch(sheet, {"drum_bus.chain.s1": {"kind": "saturation", "drive_db": 6}})
    store = DiskStore(tmp_path / "cache")
    cache = TileCache(disk=store)
    read_all(Engine(RATE, sheet.frames, cache), build(sheet, library))
    assert cache.broken
    assert store._waiting.empty()
    assert not list((tmp_path / "cache").glob("*/*.npy"))


@pytest.mark.parametrize("kind", PROCESSORS, ids=lambda kind: kind.label)
def test_processors_rest_in_numbers(kind: Any) -> None:
    """A state is looked at for NaN, so none may stand in it by design."""
    processor = kind(id="s1").process(48000)
    assert np.isfinite(processor.at_rest(1)).all()
    assert np.isfinite(processor.at_rest(2)).all()
