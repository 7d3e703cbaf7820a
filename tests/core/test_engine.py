"""The engine: early stretches beside exact ones, and how little is rendered anew after a change."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from arkund.core.graph.building import build
from arkund.core.graph.chains import Processed
from arkund.core.graph.nodes import File, Node
from arkund.core.graph.sides import Pair, Side
from arkund.core.hits.hit import Hit
from arkund.core.process.compressor import Compressor
from arkund.core.process.stage import Audio
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import TILE_S, Engine
from arkund.core.render.stretches import Stretch
from arkund.core.sheet.channels import Bus, Send
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet
from arkund.core.sheet.tempo import Tempo
from arkund.core.timing.moves import ALL, EditList
from arkund.core.timing.stretch import Slice
from arkund.core.units import amplitude_to_db
from tests.core.written_song import written_song

RATE, SECONDS = 8000, 80
TILE = TILE_S * RATE
BAR = 2 * RATE
MICS = ("kick_in", "snare_top", "overhead_l")
LONG: dict[str, Any] = {
    "mics.snare_top.chain.eq.high_pass.on": True,
    "mics.snare_top.chain.transient.attack_db": 5,
    "mics.snare_top.chain.transient.sustain_db": -9,
    "mics.snare_top.chain.compressor.on": True,
    "mics.snare_top.chain.compressor.release_ms": 1500,
    "mics.snare_top.chain.compressor.threshold_db": -34,
    "mics.snare_top.chain.compressor.ratio": 8,
    "mics.snare_top.chain.compressor.lookahead_ms": 4,
    "mics.snare_top.chain.s9": {
        "kind": "limiter",
        "ceiling_db": -12,
        "release_ms": 400,
        "after": "compressor",
    },
    "drum_bus.chain.compressor.on": True,
    "drum_bus.chain.compressor.threshold_db": -24,
    "drum_bus.chain.compressor.release_ms": 400,
}


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library]:
    """Forty bars at 120 BPM: hits that ring, louder and softer, with pauses."""
    folder, rng = tmp_path_factory.mktemp("song"), np.random.default_rng(12)
    onsets = np.sort(rng.choice(RATE * SECONDS - 4000, 120, replace=False))
    sounds = {}
    for mic in MICS:
        sound = sounds[mic] = rng.standard_normal(RATE * SECONDS) * 0.001
        for onset in onsets:
            ring = np.sin(rng.uniform(0.05, 0.6) * np.arange(3000)) * np.exp(-np.arange(3000) / 700)
            sound[onset : onset + 3000] += ring * rng.uniform(0.05, 0.6)
    hits = [
        Hit(str(n), "snare", float(o / RATE), 90, "plain", 1.0, 0.0) for n, o in enumerate(onsets)
    ]
    buses = {"punch": Bus(sends={"snare_top": Send()}, chain=(Compressor(threshold_db=-30),))}
    sheet, paths = written_song(folder, sounds, RATE, buses=buses, tempo=Tempo(bpm=120))
    edits = {
        name: EditList((), {ALL: tuple(Slice(k * RATE, off, 40) for k, off in enumerate(offsets))})
        for name, offsets in (("a" * 64, [0] * SECONDS), ("b" * 64, [0] * 60 + [25] + [0] * 19))
    }
    library = Library(paths.__getitem__, lambda digest: hits, edits.__getitem__)
    return apply_patch(sheet, LONG), library


class Counting(Engine):
    """An engine that notes over what it runs chains, and how much it reads of files."""

    def __init__(self, sheet: Sheet, cache: TileCache) -> None:
        super().__init__(sheet.rate, sheet.frames, cache, early=True)
        self.from_files = 0

    def source(self, node: Node, start: int, stop: int) -> Audio:
        if isinstance(node, File):
            self.from_files += stop - start
        return super().source(node, start, stop)


@pytest.fixture
def ran(monkeypatch: pytest.MonkeyPatch) -> list[tuple[Processed, int, int]]:
    """Chains with the spans over which they were run."""
    out: list[tuple[Processed, int, int]] = []
    process = Stretch._process

    def noting(self: Stretch, node: Processed, number: int) -> Audio:
        out.append((node, *self._span(node, number)))
        return process(self, node, number)

    monkeypatch.setattr(Stretch, "_process", noting)
    return out


def _engine(sheet: Sheet, early: bool = True) -> Engine:
    return Engine(sheet.rate, sheet.frames, TileCache(), early=early)


@pytest.mark.parametrize("early", [True, False])
def test_a_span_read_on_two_cores_is_the_span(song: Any, early: bool) -> None:
    sheet, library = song
    node = build(sheet, library).output
    for span in ((0, sheet.frames), (1234, sheet.frames - 777), (0, 1000), (500, 500)):
        apart = _engine(sheet, early).read_apart(node, *span)
        assert np.array_equal(apart, _engine(sheet, early).read(node, *span))


def test_an_early_tile_is_within_60_db_of_the_exact_one(song: Any) -> None:
    """Wherever it begins, with releases of seconds that an exact run remembers from bar 1 on."""
    sheet, library = song
    graph = build(sheet, library)
    for node in (graph.output, graph.mics["snare_top"].shaped):
        exact = _engine(sheet, early=False).read(node, 0, sheet.frames)
        for start in (3 * BAR, 10 * BAR, 21 * BAR, 34 * BAR):
            got = _engine(sheet).read(node, start, start + BAR)
            wanted = exact[start : start + BAR]
            assert amplitude_to_db(float(np.abs(got - wanted).max())) <= -60
            assert np.abs(wanted).max() > 0.05


def test_exact_tiles_are_one_uninterrupted_run(song: Any) -> None:
    """To the bit, whichever tile is asked for first."""
    sheet, library = song
    node = build(sheet, library).mics["snare_top"].shaped
    assert isinstance(node, Processed)
    wanted = _engine(sheet, early=False).read(node.source, 0, sheet.frames)
    for link in node.links:
        joined = np.concatenate([wanted, np.zeros(link.processor.latency, np.float32)])
        out = link.processor.run(joined, link.processor.at_rest())
        wanted = out[link.processor.latency :]
    late = _engine(sheet, early=False)
    for number in (60, 14, 15):
        got = late.tile(node, number)
        assert np.abs(got - wanted[number * TILE : (number + 1) * TILE]).max() < 1e-6


def test_parts_of_a_song_are_heard_without_rendering_more(song: Any, ran: Any) -> None:
    """Silent outside, settled within a second, and gates open as they do in the whole song."""
    sheet, library = song
    sheet = apply_patch(
        sheet,
        {
            "mics.kick_in.clean.on": True,
            "mics.kick_in.clean.opens_on": "threshold",
            "mics.kick_in.clean.threshold_db": -12,
        },
    )
    spans = [(8 * TILE, 12 * TILE), (40 * TILE, 44 * TILE)]
    graph = build(sheet, library)
    whole = _engine(sheet)
    heard = [whole.read(graph.output, *span) for span in spans]
    ran.clear()
    parts = Engine(sheet.rate, sheet.frames, TileCache()).only(spans)
    for (first, last), wanted in zip(spans, heard, strict=True):
        got = parts.read(graph.output, first, last)
        late = got[RATE : -RATE // 10] - wanted[RATE : -RATE // 10]
        assert amplitude_to_db(float(np.abs(late).max())) < -30
        assert np.abs(wanted[RATE:]).max() > 0.05
    assert not parts.read(graph.output, 16 * TILE, 18 * TILE).any()
    assert {first // TILE for _, first, _ in ran} == {8, 9, 10, 11, 40, 41, 42, 43}
    assert all(last - first == TILE for _, first, last in ran)
    gated = graph.mics["kick_in"].clean
    np.testing.assert_array_equal(
        parts.read(gated, *spans[1]), whole.read(gated, *spans[1]), strict=True
    )


def test_a_tile_at_the_end_is_heard_without_rendering_the_song(song: Any, ran: Any) -> None:
    """A release of 400 ms on the drum bus asks for a lead, not for bar 1; each chain runs once."""
    sheet = apply_patch(song[0], {"mics.snare_top.chain.compressor.release_ms": 310})
    engine = Counting(sheet, TileCache())
    graph = build(sheet, song[1])
    engine.tile(graph.output, 72)
    lead = graph.mics["snare_top"].shaped.leads[0]  # type: ignore[attr-defined]
    # Of each of three mics the tile and what the chains hear before it, in steps.
    assert engine.from_files <= 3 * (TILE + lead + RATE)
    assert len(ran) == len({node.key for node, _, _ in ran})
    assert min(first for _, first, _ in ran) > 40 * TILE


def test_what_is_wanted_at_once_is_rendered_for_itself_and_right(song: Any) -> None:
    """From the midst of a stretch, wherever it begins; without what lies before it there."""
    sheet, library = song
    graph = build(sheet, library)
    lead = graph.mics["snare_top"].shaped.leads[0]  # type: ignore[attr-defined]
    exact = _engine(sheet, early=False).read(graph.output, 0, sheet.frames)
    for start, stop in ((43 * TILE, 44 * TILE), (42 * TILE + 777, 43 * TILE), (0, TILE)):
        early = Counting(sheet, TileCache())
        got = early.at_once(start, stop).read(graph.output, start, stop)
        assert got.shape == (stop - start, 2)
        assert amplitude_to_db(float(np.abs(got - exact[start:stop]).max())) <= -60
        assert early.from_files <= 3 * (stop - start + lead + 2 * RATE)
    for span in ((42 * TILE, 44 * TILE), (43 * TILE + 9, 44 * TILE + 9)):
        assert early.at_once(*span) is early


def test_at_once_only_what_hears_a_change_is_rendered_and_nothing_is_remembered(
    song: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    sheet = apply_patch(song[0], {"drum_bus.chain.compressor.release_ms": 100})
    changed = apply_patch(sheet, {"mics.snare_top.chain.compressor.threshold_db": -30})
    library = song[1]
    engine, graph = _engine(sheet), build(changed, library)
    engine.read(build(sheet, library).output, 40 * TILE, 44 * TILE)
    begun: list[str] = []
    begin = Processed.begin

    def noting(self: Processed, *given: Any) -> Any:
        begun.append(self.key)
        return begin(self, *given)

    monkeypatch.setattr(Processed, "begin", noting)
    span = (43 * TILE, 44 * TILE)
    glance = engine.at_once(*span)
    with ThreadPoolExecutor(2) as pool:
        glance.ahead(graph.levels(), [span], pool)
    glance.read(graph.output, *span)
    # The bus is shut: nobody hears it.
    ends = (graph.mics["snare_top"].shaped, graph.chains["drum_bus"].end)
    assert sorted(begun) == sorted(end.key for end in ends)
    after = engine.read(graph.output, 40 * TILE, 44 * TILE)
    assert np.array_equal(after, _engine(changed).read(graph.output, 40 * TILE, 44 * TILE))


@pytest.mark.parametrize("early", [True, False])
def test_parts_are_what_is_read(song: Any, early: bool) -> None:
    """From before the song's start, over the borders of stretches, beyond its end; a side of a pair
    as its chain's parts."""
    sheet, library = song
    graph, engine = build(sheet, library), _engine(sheet, early=early)
    mic = graph.mics["snare_top"].shaped
    pair = Processed(Pair(mic, graph.mics["kick_in"].shaped), mic.links)  # type: ignore[attr-defined]
    for node in (mic, pair, Side(pair, 1), graph.output, graph.mics["snare_top"].source):
        for start, stop in ((-50, 700), (7 * TILE + 9, 9 * TILE - 5), (79 * TILE, 80 * TILE + 99)):
            built = np.zeros_like(engine.read(node, start, stop))
            for at, sound in engine.parts(node, start, stop):
                built[at - start : at - start + len(sound)] += sound
            assert np.abs(built).max() > 0
            assert np.array_equal(built, engine.read(node, start, stop))


@pytest.mark.parametrize(
    ("patch", "heard"),
    [
        ({"buses.punch.fader_db": -6}, {"punch"}),
        ({"buses.room": {"sends": {"punch": {"db": 0}}, "fader_db": -6}}, {"room", "punch"}),
        ({"buses.punch.fader_db": -6, "buses.punch.mute": True}, set()),
        ({"drum_bus.chain.compressor.key.source": "punch"}, {"punch"}),
    ],
)
def test_buses_that_have_a_part_in_the_mix(song: Any, patch: Any, heard: set[str]) -> None:
    assert build(apply_patch(song[0], patch), song[1]).heard == heard


def test_each_chain_begins_as_early_as_it_is_heard_and_no_earlier(song: Any, ran: Any) -> None:
    """A bus that feeds a bus, a group that listens to another, a filtered key: one piece of each chain
    gives the first piece of the mix."""
    sheet = apply_patch(
        song[0],
        {
            "mics.kick_in.chain.eq.output_db": 1,
            "groups.snare.chain.g": {
                "kind": "compressor",
                "release_ms": 100,
                "key": {"source": "kick", "high_pass_hz": 60},
            },
            "buses.room": {
                "sends": {"punch": {"db": 0}, "kick": {"db": -6, "pre": False}},
                "chain": [{"kind": "compressor", "id": "c", "release_ms": 60}],
            },
            "drum_bus.chain.compressor.key.high_pass_hz": 90,
            "drum_bus.chain.compressor.release_ms": 100,
        },
    )
    graph = build(sheet, song[1])
    _engine(sheet).tile(graph.output, 40)
    assert {last for _, _, last in ran} <= {41 * TILE + 256 * n for n in range(5)}
    assert len(ran) == len({node.key for node, _, _ in ran})
    for name in ("snare_top", "kick_in"):
        shaped = graph.mics[name].shaped
        begun = [first for node, first, _ in ran if node is shaped]
        assert begun == [40 * TILE - shaped.behind.lead]  # type: ignore[attr-defined]
        assert 0 < shaped.behind.lead < 8 * RATE  # type: ignore[attr-defined]


def test_a_chain_hears_its_source_once_however_long_it_is(song: Any, ran: Any) -> None:
    def heard(stages: int) -> int:
        chain = [
            {"kind": "transient", "id": f"t{n}", "attack_db": 1.0}
            if n % 2
            else {"kind": "eq", "id": f"e{n}", "output_db": 0.5}
            for n in range(stages)
        ]
        sheet = apply_patch(song[0], {"mics.kick_in.chain": chain})
        engine = Counting(sheet, TileCache())
        node = build(sheet, song[1]).mics["kick_in"].shaped
        ran.clear()
        engine.tile(node, 40)
        assert [one for one, _, _ in ran] == [node]
        return engine.from_files - node.leads[0] - node.behind.latency

    assert heard(12) == heard(2) == TILE


def _named_anew(before: Sheet, after: Sheet, library: Library, name: str = "output") -> set[int]:
    """The bars, counted from 0, that are not what they were."""
    return _other(build(before, library).node(name), build(after, library).node(name), before)


def _other(old: Node, new: Node, sheet: Sheet) -> set[int]:
    """The bars in which two nodes are not the same."""
    engine = _engine(sheet)
    spans = [(n * BAR, (n + 1) * BAR) for n in range(SECONDS // 2)]
    return {n for n, at in enumerate(spans) if engine.over(old, *at) != engine.over(new, *at)}


@pytest.mark.parametrize(
    "path", ["mics.snare_top.chain.compressor.threshold_db", "buses.punch.fader_db"]
)
def test_a_difference_leaves_what_does_not_hear_it(song: Any, path: str) -> None:
    """Bars 9 to 16 of forty: those before them are as they were, and so are those far behind."""
    over = {"path": path, "bars": "9-16", "value": -12.0}
    changed = _named_anew(song[0], apply_patch(song[0], {"over.d1": over}), song[1])
    assert changed >= set(range(8, 16))
    assert min(changed) >= 7  # a lookahead may hear the first bar coming
    assert max(changed) < 36


def test_after_a_difference_only_what_hears_it_is_rendered(song: Any, ran: Any) -> None:
    cache = TileCache()
    Counting(song[0], cache).read(build(song[0], song[1]).output, 0, song[0].frames)
    over = {"path": "mics.kick_in.fader_db", "bars": "9-16", "value": -12.0}
    sheet = apply_patch(song[0], {"over.d1": over})
    ran.clear()
    output = build(sheet, song[1]).output
    Counting(sheet, cache).read(output, 0, sheet.frames)
    bars = {first // BAR for node, first, _ in ran if node.key == output.key}
    assert bars >= set(range(8, 16))
    assert min(bars) >= 6
    assert len(bars) < 20


def test_a_hit_moved_leaves_the_bars_that_do_not_hear_it(song: Any) -> None:
    """One slice at 60 s of 80 comes 25 samples later."""
    one, two = (song[0].model_copy(update={"moves": name * 64}) for name in "ab")
    changed = _named_anew(one, two, song[1])
    assert 30 in changed
    assert min(changed) >= 28
    assert _named_anew(one, one, song[1]) == set()


def test_a_gate_on_hits_keeps_the_bars_in_which_it_does_the_same(song: Any) -> None:
    gated = apply_patch(song[0], {"mics.snare_top.clean.on": True})
    fewer = Library(song[1].path_of, lambda digest: song[1].hits_of(digest)[:-4], song[1].edits_of)
    old, new = (build(gated, lib).mics["snare_top"].clean for lib in (song[1], fewer))
    changed = _other(old, new, gated)
    assert changed
    assert min(changed) >= 34


def test_a_memory_of_many_seconds_behind_is_not_rendered_for_every_stretch(
    song: Any, ran: Any
) -> None:
    """A release of 2 s on the drum bus: its lead is read from the stretches before, once."""
    sheet = apply_patch(song[0], {"drum_bus.chain.compressor.release_ms": 2000})
    graph = build(sheet, song[1])
    shaped = graph.mics["snare_top"].shaped
    assert isinstance(shaped, Processed)
    assert shaped.behind.lead <= 5 * RATE < graph.output.leads[0]  # type: ignore[attr-defined]
    exact = _engine(sheet, early=False).read(graph.output, 30 * BAR, 32 * BAR)
    engine = _engine(sheet)
    got = engine.read(graph.output, 30 * BAR, 32 * BAR)
    assert amplitude_to_db(float(np.abs(got - exact).max())) <= -60
    engine.read(graph.output, 0, sheet.frames)
    spans = [last - first for node, first, last in ran if node is shaped]
    assert sum(spans) < 3.5 * sheet.frames


def test_what_may_be_a_hit_opens_the_gate_and_is_played_and_evened_by_nothing(song: Any) -> None:
    sheet, library = song
    snare = {"snare": [41.337]}
    heard = replace(library, unlisted_of=lambda digest: snare)
    take = sheet.takes[0].model_copy(update={"analysis": "0" * 64})
    sheet = apply_patch(
        sheet.model_copy(update={"takes": (take,)}),
        {
            "mics.snare_top.clean.on": True,
            "mics.snare_top.clean.soft_ms": 12,
            "mics.snare_top.even.amount": 1.0,
        },
    )
    plain, more = (build(sheet, lib).mics["snare_top"] for lib in (library, heard))
    near = np.array([41.337 * RATE - 60, 41.337 * RATE + 100])
    engine = _engine(sheet)
    assert plain.clean.shape(engine).at(near)[1] < -3  # type: ignore[attr-defined]
    assert (more.clean.shape(engine).at(near) > -1).all()  # type: ignore[attr-defined]
    assert more.chained.entry.onsets == plain.chained.entry.onsets  # type: ignore[attr-defined]


def test_a_filter_before_a_detector_is_not_taken_for_a_filter_in_the_chain(song: Any) -> None:
    """Nor one stage's key for the next one's: each has a name and a sound of its own."""
    squeeze = {"kind": "compressor", "threshold_db": -40, "ratio": 8}
    keyed = {"key": {"source": "kick_in"}}
    chains: list[list[dict[str, Any]]] = [
        [{**squeeze, "id": "a", "key": {"high_pass_hz": 300}}],
        [
            {"kind": "eq", "id": "e", "high_pass": {"on": True, "frequency_hz": 300}, "bands": []},
            {**squeeze, "id": "a"},
        ],
        [{**squeeze, "id": "a", **keyed}, {**squeeze, "id": "b"}],
        [{**squeeze, "id": "a"}, {**squeeze, "id": "b", **keyed}],
    ]
    cache, sounds = TileCache(), []
    for chain in chains:
        sheet = apply_patch(song[0], {"mics.snare_top.chain": chain})
        node = build(sheet, song[1]).mics["snare_top"].shaped
        remembering, fresh = (
            Engine(sheet.rate, sheet.frames, c, early=True) for c in (cache, TileCache())
        )
        sounds.append(remembering.tile(node, 9))
        assert np.array_equal(sounds[-1], fresh.tile(node, 9))
    assert not np.array_equal(sounds[0], sounds[1])
    assert not np.array_equal(sounds[2], sounds[3])
