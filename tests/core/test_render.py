"""Rendering: any span equals the print, parallel paths stay in step, stems null, bits repeat."""

import hashlib
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
import pytest
import soundfile as sf

from arkund.core.errors import ArkundError, SheetError
from arkund.core.graph.building import build
from arkund.core.graph.chains import Processed
from arkund.core.hits.hit import Hit
from arkund.core.process.compressor import Compressor
from arkund.core.render.cache import DiskStore, Names, TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.press import PrintCancelled
from arkund.core.render.printing import PART_FOLDER
from arkund.core.render.stretches import Stretch
from arkund.core.sheet.channels import Bus, Send, groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch, inverse_patch, read_path
from arkund.core.sheet.sheet import Sheet, Source, Take, dump, load
from arkund.core.units import amplitude_to_db
from tests.printing import printed

RATE = 8000
SECONDS = 41
MICS = ("kick_in", "snare_top", "overhead_l", "overhead_r")


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library, dict[str, np.ndarray]]:
    """Four mics of bursts and long decays, in 32-bit float files."""
    folder = tmp_path_factory.mktemp("song")
    rng = np.random.default_rng(9)
    time = np.arange(RATE * SECONDS)
    sounds, sources, paths = {}, {}, {}
    onsets = np.sort(rng.choice(RATE * SECONDS - 4000, 70, replace=False))
    for mic in MICS:
        sound = rng.standard_normal(len(time)) * 0.002
        for onset in onsets:
            ring = np.sin(rng.uniform(0.05, 0.6) * np.arange(3000)) * np.exp(-np.arange(3000) / 900)
            sound[onset : onset + 3000] += ring * rng.uniform(0.05, 0.5)
        sounds[mic] = sound.astype(np.float32)
        path = folder / f"{mic}.wav"
        sf.write(str(path), sounds[mic], RATE, subtype="FLOAT")
        digest = hashlib.sha256(path.read_bytes()).hexdigest()
        sources[mic], paths[digest] = Source(sha256=digest), path
    hits = [
        Hit(str(i), "snare", float(o / RATE), 90, "plain", 1.0, 0.0) for i, o in enumerate(onsets)
    ]
    sheet = Sheet(
        rate=RATE,
        frames=len(time),
        takes=(Take(number=1, sources=sources, hits="0" * 64),),
        mics={m: new_mic(m) for m in MICS},
        groups=groups_for({m: new_mic(m) for m in MICS}),
        buses={
            "punch": Bus(
                sends={"kick_in": Send(db=0.0), "snare_top": Send(db=-3.0)},
                chain=(Compressor(on=False),),
            )
        },
    )
    return sheet, Library(paths.__getitem__, lambda digest: hits), sounds


EVERYTHING: dict[str, Any] = {
    "mics.kick_in.clean.on": True,
    "mics.kick_in.clean.opens_on": "threshold",
    "mics.kick_in.clean.threshold_db": -14,
    "mics.kick_in.clean.hysteresis_db": 22,
    "mics.kick_in.clean.release_ms": 5000,
    "mics.kick_in.clean.range_db": -60,
    "mics.kick_in.delay_samples": 7.5,
    "mics.kick_in.polarity": -1,
    "mics.snare_top.clean.on": True,
    "mics.snare_top.trim_db": 4,
    "mics.snare_top.chain.eq.high_pass.on": True,
    "mics.snare_top.chain.eq.high_pass.frequency_hz": 40,
    "mics.snare_top.chain.eq.high_pass.slope_db_oct": 48,
    "mics.snare_top.chain.eq.bands.b2.on": True,
    "mics.snare_top.chain.eq.bands.b2.gain_db": 9,
    "mics.snare_top.chain.eq.bands.b2.q": 12,
    "mics.snare_top.chain.eq.bands.b2.frequency_hz": 90,
    "mics.snare_top.chain.transient.attack_db": 5,
    "mics.snare_top.chain.transient.sustain_db": -9,
    "mics.snare_top.chain.compressor.on": True,
    "mics.snare_top.chain.compressor.release_ms": 5000,
    "mics.snare_top.chain.compressor.threshold_db": -30,
    "mics.overhead_l.chain.compressor.on": True,
    "mics.overhead_l.chain.compressor.lookahead_ms": 5,
    "mics.overhead_r.delay_samples": -30,
    "mics.overhead_r.fader_db": -4,
    "buses.punch.chain.compressor.on": True,
    "buses.punch.chain.compressor.ratio": 20,
    "buses.punch.chain.compressor.threshold_db": -30,
    "buses.punch.chain.compressor.lookahead_ms": 3,
    "buses.punch.fader_db": -6,
    "drum_bus.fader_db": -3,
}


def _engine(sheet: Sheet) -> Engine:
    return Engine(sheet.rate, sheet.frames, TileCache())


def test_any_span_equals_the_whole(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    graph = build(sheet, song[1])
    whole = _engine(sheet).read(graph.output, 0, sheet.frames)
    rng = np.random.default_rng(10)
    for _ in range(12):
        start = int(rng.integers(0, sheet.frames - 2))
        stop = int(rng.integers(start + 1, sheet.frames))
        part = _engine(sheet).read(graph.output, start, stop)
        assert amplitude_to_db(float(np.abs(part - whole[start:stop]).max())) <= -80


def test_tiles_equal_one_uninterrupted_run(song: Any) -> None:
    """Against the processors run over the whole song at once, without tiles."""
    sheet = apply_patch(song[0], EVERYTHING)
    graph, engine = build(sheet, song[1]), _engine(sheet)
    stages = graph.mics["snare_top"]
    sound = engine.read(stages.clean, 0, sheet.frames)
    for process in (link.processor for link in stages.shaped.links):
        sound = process.run(np.ascontiguousarray(sound), process.at_rest())
    tiled = engine.read(stages.shaped, 0, sheet.frames)
    assert amplitude_to_db(float(np.abs(tiled - sound).max())) <= -80


def test_a_stream_is_the_song_and_names_and_remembers_nothing(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    graph, engine = build(sheet, song[1]), _engine(sheet)
    cache = TileCache()
    stream = Engine(sheet.rate, sheet.frames, cache, sources=cache.sources).stream()
    size, nodes = stream.tile_frames, (graph.output, *graph.outs.values())
    wholes = [engine.read(node, 0, sheet.frames) for node in nodes]
    for number in range(sheet.frames // size):
        for node, whole in zip(nodes, wholes, strict=True):
            block = stream.tile(node, number)
            apart = np.abs(block - whole[number * size : (number + 1) * size]).max()
            assert amplitude_to_db(float(apart)) <= -140
    chain = graph.mics["snare_top"].shaped
    assert isinstance(chain, Processed)
    named = Stretch(Engine(sheet.rate, sheet.frames, cache), 0, None, alone=True)
    assert not any(named.has(chain, [number]) for number in range(sheet.frames // size))


def test_who_goes_back_in_a_stream_hears_the_same(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    node = build(sheet, song[1]).mics["snare_top"].shaped
    stream, whole = _engine(sheet).stream(), _engine(sheet).read(node, 0, sheet.frames)
    stream.tile(node, 7)
    np.testing.assert_allclose(stream.read(node, 0, sheet.frames), whole, atol=1e-7)


def test_a_tile_is_the_same_whichever_was_asked_for_first(song: Any) -> None:
    """Between borders a processor goes on from the tile before, asked for or not."""
    sheet = apply_patch(song[0], EVERYTHING)
    graph = build(sheet, song[1])
    in_order, backwards = _engine(sheet), _engine(sheet)
    count = -(-sheet.frames // in_order.tile_frames)
    assert count > 2
    wanted = [in_order.tile(graph.output, n) for n in range(count)]
    for n in reversed(range(count)):
        assert np.array_equal(backwards.tile(graph.output, n), wanted[n])


@pytest.mark.parametrize("at_a_time", [1, 8])
def test_what_is_rendered_ahead_is_what_is_read_and_is_rendered_once(
    song: Any, at_a_time: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("arkund.core.render.engine.AHEAD", at_a_time)
    sheet = apply_patch(
        song[0], EVERYTHING | {"drum_bus.chain.s9": {"kind": "saturation", "drive_db": 9}}
    )
    graph, engine = build(sheet, song[1]), _engine(sheet)
    end = graph.chains["drum_bus"].end
    assert isinstance(end, Processed)
    wanted = _engine(sheet).read(end, 0, sheet.frames)
    rendered: list[tuple[str, int]] = []
    process = Stretch._process

    def noting(stretch: Stretch, node: Processed, number: int) -> Any:
        rendered.append((node.key, number))
        return process(stretch, node, number)

    monkeypatch.setattr(Stretch, "_process", noting)
    whole = [(0, sheet.frames)]
    with ThreadPoolExecutor(2) as pool:
        engine.ahead(graph.levels(), whole, pool, [end])
        assert sorted(rendered) == sorted(set(rendered))
        assert len({key for key, _ in rendered}) == sum(map(len, graph.levels())) + 1
        rendered.clear()
        # What the last has is not asked for again, of whichever chain.
        turned = apply_patch(sheet, {"mics.snare_top.chain.transient.attack_db": 3})
        other = build(turned, song[1]).mics["snare_top"].shaped
        assert isinstance(other, Processed)
        engine.ahead([[other]], whole, pool, [end])
    assert np.array_equal(engine.read(end, 0, sheet.frames), wanted)
    assert rendered == []


def test_names_that_are_forgotten_are_not_found_again_from_the_start(
    song: Any, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In a long song there are more names than are kept; a piece needs that of the one before."""
    sheet = apply_patch(song[0], EVERYTHING)
    graph, engine, found = build(sheet, song[1]), _engine(sheet), []
    engine.cache.keys = Names(400)
    settings = Stretch._begins

    def noting(stretch: Stretch, node: Processed) -> list[int]:
        found.append(node.key)
        return settings(stretch, node)

    monkeypatch.setattr(Stretch, "_begins", noting)
    count = sheet.frames // engine.tile_frames
    for number in range(count):
        engine.tile(graph.output, number)
    chains = len(set(found))
    # Begun once each, and named about once a piece.
    assert len(found) < 3 * count * chains
    assert np.array_equal(
        engine.tile(graph.output, count - 1), _engine(sheet).tile(graph.output, count - 1)
    )


def test_a_state_that_was_forgotten_is_found_again(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    node = build(sheet, song[1]).mics["snare_top"].transient
    engine = _engine(sheet)
    wanted = engine.tile(node, 1).copy()
    # The first piece's sound is remembered, the state it left is not.
    first, kept = _engine(sheet).tile(node, 0), TileCache()
    forgetful = Engine(sheet.rate, sheet.frames, kept)
    assert isinstance(node, Processed)
    kept.put(forgetful._exact._named(node, 0), first)
    assert np.shares_memory(forgetful.tile(node, 0), first)
    assert np.array_equal(forgetful.tile(node, 1), wanted)


def test_what_is_remembered_of_files_changes_nothing(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING | {"mics.kick_in.delay_samples": -900.5})
    graph, cache = build(sheet, song[1]), TileCache()
    remembering = Engine(sheet.rate, sheet.frames, cache, sources=cache.sources)
    source = graph.mics["kick_in"].source
    for start, stop in ((-500, 3000), (90_000, 100_000), (sheet.frames - 50, sheet.frames + 4000)):
        for _ in range(2):
            got = remembering.read(source, start, stop)
            assert np.array_equal(got, _engine(sheet).read(source, start, stop))
    assert np.array_equal(
        remembering.read(graph.output, 0, sheet.frames),
        _engine(sheet).read(graph.output, 0, sheet.frames),
    )


def test_an_engine_that_keeps_nothing_leaves_the_disk_alone(song: Any) -> None:
    class Disk:
        put_keys: ClassVar[list[str]] = []

        def get(self, key: str) -> None:
            return None

        def put(self, key: str, value: object) -> None:
            self.put_keys.append(key)

    sheet = apply_patch(song[0], EVERYTHING)
    node = build(sheet, song[1]).output
    for keeps in (False, True):
        Engine(sheet.rate, sheet.frames, TileCache(disk=Disk()), keeps=keeps).tile(node, 0)  # type: ignore[arg-type]
        assert bool(Disk.put_keys) is keeps


def test_same_answer_twice(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    graph = build(sheet, song[1])
    one, two = (_engine(sheet).read(graph.output, 0, sheet.frames) for _ in range(2))
    assert np.array_equal(one, two)


def test_as_recorded_is_the_sum_of_the_files_rounded_once(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    got = _engine(sheet).read(build(sheet, song[1], "recorded").output, 0, sheet.frames)
    wanted = np.zeros(sheet.frames)
    for mic in MICS:
        wanted += song[2][mic].astype(np.float64)
    assert np.array_equal(got[:, 0], wanted.astype(np.float32))
    assert np.array_equal(got[:, 1], got[:, 0])


@pytest.mark.parametrize("blend", [-30.0, -6.0, 0.0])
@pytest.mark.parametrize("lookahead", [0.0, 10.0])
def test_a_parallel_bus_that_does_nothing_changes_level_only(
    song: Any, blend: float, lookahead: float
) -> None:
    idle = Compressor(on=True, threshold_db=0, ratio=2, knee_db=0, lookahead_ms=lookahead)
    patch = {
        "buses.punch.fader_db": blend,
        "buses.punch.chain.compressor": idle.model_dump(),
        # Sent low enough that its threshold is never reached.
        **{f"buses.punch.sends.{mic}": {"db": -20.0} for mic in MICS},
    }
    plain = _engine(song[0]).read(build(song[0], song[1]).sum, 0, song[0].frames)
    sheet = apply_patch(song[0], patch)
    added = _engine(sheet).read(build(sheet, song[1]).sum, 0, sheet.frames)
    residue = added - plain * np.float32(1 + 10 ** ((blend - 20) / 20))
    assert amplitude_to_db(float(np.abs(residue).max())) < -100


def test_removed_and_kept_make_the_whole(song: Any) -> None:
    patch = {"mics.snare_top.clean.on": True}
    sheet = apply_patch(song[0], patch)
    engine = _engine(sheet)
    kept = engine.read(build(sheet, song[1]).mics["snare_top"].shaped, 0, sheet.frames)
    taken = engine.read(build(sheet, song[1], "removed").mics["snare_top"].shaped, 0, sheet.frames)
    assert np.abs(taken).max() > 0.001
    assert np.allclose(kept + taken, song[2]["snare_top"], atol=1e-6)


def test_a_fader_leaves_the_squeeze_alone_and_a_mute_stops_the_send(song: Any) -> None:
    def feed(patch: dict[str, Any]) -> np.ndarray:
        sheet = apply_patch(song[0], patch)
        return _engine(sheet).read(build(sheet, song[1]).chains["punch"].entry, 0, sheet.frames)

    assert np.array_equal(feed({}), feed({"mics.kick_in.fader_db": -20}))
    assert not np.array_equal(feed({}), feed({"mics.kick_in.mute": True}))


def test_delay_is_later_and_flat(song: Any) -> None:
    def placed(delay: float) -> np.ndarray:
        sheet = apply_patch(song[0], {"mics.kick_in.delay_samples": delay})
        return _engine(sheet).read(build(sheet, song[1]).mics["kick_in"].placed, 0, 40000)

    assert np.array_equal(placed(12)[12:], placed(0)[:-12])
    half = np.abs(np.fft.rfft(placed(0.5)[100:-100] * np.hanning(39800)))
    whole = np.abs(np.fft.rfft(placed(0)[100:-100] * np.hanning(39800)))
    band = slice(500, round(len(whole) * 16000 / 22050))
    smooth = np.ones(200) / 200
    ratio = np.convolve(half[band] ** 2, smooth, "valid") / np.convolve(
        whole[band] ** 2, smooth, "valid"
    )
    assert np.abs(10 * np.log10(ratio)).max() < 0.1


def test_stems_null_against_the_sum(song: Any, tmp_path: Path) -> None:
    sheet = apply_patch(song[0], EVERYTHING | {"mics.snare_top.trim_db": -6})
    graph = build(sheet, song[1])
    as_float = printed(_engine(sheet), graph, tmp_path / "f", file_format="wav32f")
    assert as_float.null_db is not None
    assert as_float.null_db <= -120
    as_24 = printed(_engine(sheet), graph, tmp_path / "i")
    assert as_24.null_db is not None
    assert as_24.null_db <= -110
    names = [f for f in as_24.files if "mix" not in f]
    total = sum(sf.read(str(tmp_path / "i" / name))[0] for name in names)
    target = _engine(sheet).read(graph.sum, 0, sheet.frames)
    assert amplitude_to_db(float(np.abs(total - target).max())) <= -110
    lengths = {sf.info(str(tmp_path / "i" / name)).frames for name in as_24.files}
    assert lengths == {sheet.frames}
    assert sf.info(str(tmp_path / "i" / "mix.wav")).subtype == "PCM_24"


def test_values_over_full_scale_are_counted(song: Any, tmp_path: Path) -> None:
    sheet = apply_patch(song[0], {"mics.kick_in.trim_db": 24})
    report = printed(_engine(sheet), build(sheet, song[1]), tmp_path)
    assert report.over["mix.wav"] > 0
    assert report.peak_dbfs > 0
    assert np.abs(sf.read(str(tmp_path / "mix.wav"))[0]).max() <= 1


def test_a_cancelled_print_leaves_nothing(song: Any, tmp_path: Path) -> None:
    calls = iter([False, False, True, True, True])
    with pytest.raises(PrintCancelled):
        printed(_engine(song[0]), build(song[0], song[1]), tmp_path, cancelled=lambda: next(calls))
    assert list(tmp_path.iterdir()) == []


def test_what_a_killed_print_left_is_cleared(song: Any, tmp_path: Path) -> None:
    (tmp_path / PART_FOLDER).mkdir()
    (tmp_path / PART_FOLDER / "mix.wav").write_bytes(b"half")
    printed(_engine(song[0]), build(song[0], song[1]), tmp_path, ["mix"])
    assert [p.name for p in tmp_path.iterdir()] == ["mix.wav"]


def test_cache_is_bounded_and_disk_may_be_deleted(tmp_path: Path) -> None:
    cache = TileCache(memory_bytes=4000)
    for n in range(10):
        cache.put(f"k{n}", np.full(250, n, np.float32))
    assert cache.get("k0") is None
    assert cache.get("k9") is not None
    store = DiskStore(tmp_path)
    store.put("abcd", np.arange(5))
    for _ in range(100):
        if (found := store.get("abcd")) is not None:
            break
        import time

        time.sleep(0.02)
    assert found is not None
    assert found.tolist() == [0, 1, 2, 3, 4]
    next(tmp_path.glob("*/*.npy")).write_bytes(b"broken")
    assert store.get("abcd") is None


def test_sheet_round_trip_and_paths(song: Any) -> None:
    sheet = apply_patch(song[0], EVERYTHING)
    assert load(dump(sheet)) == sheet
    assert dump(load(dump(sheet))) == dump(sheet)
    assert read_path(sheet, "mics.snare_top.chain.eq.bands.b2.gain_db") == 9
    back = apply_patch(sheet, inverse_patch(song[0], EVERYTHING))
    assert back == song[0]


@pytest.mark.parametrize(
    ("path", "value"),
    [
        ("mics.snare_top.clean.threshold_db", 5),
        ("mics.snare_top.clean.thresh", -3),
        ("mics.nobody.trim_db", 0),
        ("mics.snare_top.polarity", 0),
        ("drum_bus.fader_db", None),
        ("mics.snare_top.chain.eq.bands.b10.gain_db", 1),
        ("buses.punch.sends.nobody.db", 0),
    ],
)
def test_what_the_sheet_refuses(song: Any, path: str, value: Any) -> None:
    with pytest.raises(SheetError):
        apply_patch(song[0], {path: value})


def test_a_new_send_may_be_added(song: Any) -> None:
    sheet = apply_patch(song[0], {"buses.punch.sends.overhead_l": {"db": -6}})
    assert sheet.buses["punch"].sends["overhead_l"].db == -6


@pytest.mark.parametrize("name", ["mix", "snare_group", "strike_return", "kick"])
def test_a_layer_s_file_is_its_own(song: Any, tmp_path: Path, name: str) -> None:
    graph = build(song[0], song[1])
    chains = {**graph.chains, name: graph.mics["snare_top"].chained}
    laid = replace(graph, layers={name: graph.outs["snare_top"]}, chains=chains)
    report = printed(_engine(song[0]), laid, tmp_path)
    assert len(set(report.files)) == len(report.files)
    assert f"{name}_layer.wav" in report.files
    lengths = {sf.info(str(tmp_path / file)).frames for file in report.files}
    assert lengths == {song[0].frames}


def test_two_channels_of_one_file_name_are_refused(song: Any, tmp_path: Path) -> None:
    graph = build(song[0], song[1])
    node = graph.outs["snare_top"]
    chained = graph.mics["snare_top"].chained
    both = {"deep": node, "deep_layer": node}
    laid = replace(graph, layers=both, chains=graph.chains | dict.fromkeys(both, chained))
    with pytest.raises(ArkundError, match="Two channels would be printed as deep_layer"):
        printed(_engine(song[0]), laid, tmp_path)
