"""Chains, groups and buses: changes by id, what is refused, random sheets, a processor added."""

import subprocess
import sys
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import scipy

from arkund.core.errors import SheetError
from arkund.core.graph.building import build
from arkund.core.graph.chains import Link, Processed
from arkund.core.hits.hit import Hit
from arkund.core.process.registry import BY_KIND, PROCESSORS, parts_of
from arkund.core.process.stage import Stage
from arkund.core.process.values import described
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import GROUPS, Bus
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch, inverse_patch, read_path
from arkund.core.sheet.sheet import Sheet, dump, load
from arkund.core.sheet.upgrade import upgraded, upgraded_patch
from arkund.core.units import amplitude_to_db
from tests.core.written_song import written_song
from tests.examples import example

RATE, SECONDS = 8000, 9
MICS = ("kick_in", "snare_top", "tom_1", "overhead_l", "overhead_r")
SNARE = "mics.snare_top.chain"


@pytest.fixture(scope="module")
def song(tmp_path_factory: pytest.TempPathFactory) -> tuple[Sheet, Library]:
    """Five mics of hits over a little noise."""
    folder = tmp_path_factory.mktemp("song")
    rng = np.random.default_rng(21)
    sounds = {}
    for mic in MICS:
        sound = sounds[mic] = rng.standard_normal(RATE * SECONDS) * 0.002
        for at in rng.integers(0, RATE * SECONDS - 3000, 30):
            ring = np.sin(rng.uniform(0.05, 0.6) * np.arange(3000)) * np.exp(-np.arange(3000) / 500)
            sound[at : at + 3000] += ring * rng.uniform(0.1, 0.8)
    sheet, paths = written_song(folder, sounds, RATE, buses={"punch": Bus()})
    return sheet, Library(paths.__getitem__, lambda digest: ())


def _ids(sheet: Sheet) -> list[str]:
    return [stage.id for stage in sheet.mics["snare_top"].chain]


def test_stages_are_added_moved_and_taken_out_by_id(song: Any) -> None:
    sheet = song[0]
    assert _ids(sheet) == ["eq", "transient", "compressor"]
    added = apply_patch(sheet, {f"{SNARE}.s9": {"kind": "saturation", "after": "eq"}})
    assert _ids(added) == ["eq", "s9", "transient", "compressor"]
    assert read_path(added, f"{SNARE}.s9.drive_db") == 6.0
    moved = apply_patch(added, {f"{SNARE}.s9.after": ""})
    assert _ids(moved) == ["s9", "eq", "transient", "compressor"]
    assert inverse_patch(added, {f"{SNARE}.s9.after": ""}) == {f"{SNARE}.s9.after": "eq"}
    gone = apply_patch(added, {f"{SNARE}.s9": None})
    assert gone == sheet
    last = apply_patch(sheet, {f"{SNARE}.s9": {"kind": "limiter"}})
    assert _ids(last)[-1] == "s9"
    first = apply_patch(sheet, {f"{SNARE}.s9": {"kind": "limiter", "after": ""}})
    assert _ids(first)[0] == "s9"


def test_any_row_of_changes_is_undone_in_reverse(song: Any) -> None:
    rng = np.random.default_rng(22)
    for _ in range(60):
        sheet, ways_back = song[0], []
        for n in range(6):
            ids = _ids(sheet)
            some = str(rng.choice(ids)) if ids else "eq"
            patch: dict[str, Any] = [
                {f"{SNARE}.n{n}": {"kind": str(rng.choice(list(BY_KIND)))}},
                {f"{SNARE}.n{n}": {"kind": "compressor", "after": str(rng.choice([*ids, ""]))}},
                {f"{SNARE}.{some}": None},
                {f"{SNARE}.{some}.on": bool(rng.integers(2))},
                {f"{SNARE}.{some}.after": ""},
                {"buses.more": {"sends": {"snare": {"db": -3}}}, "groups.shells": {}},
            ][int(rng.integers(6))]
            try:
                after = apply_patch(sheet, patch)
            except SheetError:
                continue
            ways_back.append((sheet, inverse_patch(sheet, patch)))
            sheet = after
        for before, way_back in reversed(ways_back):
            sheet = apply_patch(sheet, way_back)
            assert sheet == before


EIGHT = {f"{SNARE}.eq.bands.b{n}": {} for n in range(5, 9)}
LOOP = {
    "buses.a": {"sends": {"b": {}}},
    "buses.b": {"sends": {"c": {}}},
    "buses.c": {"sends": {"a": {}}},
}


@pytest.mark.parametrize(
    ("patch", "words"),
    [
        (LOOP, "takes from"),
        ({"buses.a": {"sends": {"a": {}}}}, "cannot feed itself"),
        ({"buses.a": {"sends": {"nobody": {}}}}, "nobody"),
        ({"groups.snare": None}, "snare"),
        ({"mics.kick_in.to": "nowhere"}, "nowhere"),
        ({f"{SNARE}.n{n}": {"kind": "eq"} for n in range(30)}, "32"),
        ({f"{SNARE}.s9": {"kind": "flanger"}}, "flanger"),
        ({f"{SNARE}.s9": {"kind": "eq", "after": "nobody"}}, "nobody"),
        ({f"{SNARE}.s9": {"kind": "eq", "id": "s8"}}, "s8"),
        ({f"{SNARE}.s9": 3}, "3"),
        ({f"{SNARE}.0.on": False}, "no"),
        ({f"{SNARE}.nobody": None}, "nobody"),
        (
            {"mics.snare_top.chain": [{"kind": "eq", "id": "x"}, {"kind": "limiter", "id": "x"}]},
            "x",
        ),
        ({**EIGHT, f"{SNARE}.eq.bands.b9": {}}, "8"),
        ({f"{SNARE}.eq.bands.b2.gain_db": 25}, "24"),
        ({"groups.kick_in": {}}, "kick_in"),
        ({"buses.toms": {}}, "toms"),
    ],
)
def test_what_leads_nowhere_is_refused_by_name(song: Any, patch: Any, words: str) -> None:
    with pytest.raises(SheetError, match=words):
        apply_patch(song[0], patch)


def _output(sheet: Sheet, library: Library, start: int = 0, stop: int | None = None) -> np.ndarray:
    engine = Engine(sheet.rate, sheet.frames, TileCache())
    return engine.read(build(sheet, library).output, start, stop or sheet.frames)


def test_a_group_does_to_its_mics_what_its_chain_says(song: Any) -> None:
    sheet, library = song
    plain = _output(sheet, library)
    down = _output(
        apply_patch(
            sheet,
            {
                "groups.toms.fader_db": -6,
                "groups.kick.fader_db": -6,
                "groups.snare.fader_db": -6,
                "groups.cymbals.fader_db": -6,
            },
        ),
        library,
    )
    assert np.allclose(down, plain * 10 ** (-6 / 20), atol=1e-6)
    muted = _output(apply_patch(sheet, {"groups.toms.mute": True}), library)
    without = _output(apply_patch(sheet, {"mics.tom_1.mute": True}), library)
    assert np.allclose(muted, without, atol=1e-6)
    assert not np.allclose(muted, plain, atol=1e-3)


def test_a_send_behind_the_fader_follows_it(song: Any) -> None:
    bus: dict[str, Any] = {"sends": {"toms": {"pre": False}}, "fader_db": 0}

    def returned(**changes: Any) -> np.ndarray:
        of_group = {f"groups.toms.{name}": v for name, v in changes.items()}
        sheet = apply_patch(song[0], {"buses.b": bus, **of_group})
        graph = build(sheet, song[1])
        return Engine(RATE, sheet.frames, TileCache()).read(graph.returns["b"], 0, sheet.frames)

    assert np.allclose(returned(fader_db=-12), returned() * 10 ** (-12 / 20), atol=1e-6)
    bus["sends"]["toms"]["pre"] = True
    assert np.array_equal(returned(fader_db=-12), returned())


def _random_stage(rng: np.random.Generator, number: int) -> dict[str, Any]:
    """A stage of any kind with any legal values."""
    kind = str(rng.choice(list(BY_KIND)))
    out: dict[str, Any] = {"kind": kind, "id": f"s{number}"}
    for prefix, part in parts_of(BY_KIND[kind]).items():
        values = {v.name: _random_value(rng, v) for v in described(part).values()}
        if prefix.endswith(".*."):
            out[prefix[:-3]] = [
                {**{v.name: _random_value(rng, v) for v in described(part).values()}, "id": f"b{n}"}
                for n in range(rng.integers(0, _most(BY_KIND[kind], prefix[:-3]) + 1))
            ]
        elif prefix:
            out[prefix[:-1]] = values
        else:
            out |= values
    return out


def _most(processor: Any, name: str) -> int:
    limits = processor.model_fields[name].metadata
    return int(next(m.max_length for m in limits if hasattr(m, "max_length")))


def _random_value(rng: np.random.Generator, v: Any) -> Any:
    if v.name == "source":
        return str(rng.choice(["", *MICS]))
    if not v.is_number:
        return v.choices[int(rng.integers(len(v.choices)))]
    at = rng.choice([0.0, 1.0, *rng.uniform(0, 1, 6)])
    if v.low > 0:
        return float(np.clip(v.low * (v.high / v.low) ** at, v.low, v.high))
    return float(v.low + (v.high - v.low) * at)


def _random_patch(rng: np.random.Generator) -> dict[str, Any]:
    patch: dict[str, Any] = {}
    channels = (
        [f"mics.{m}" for m in MICS] + [f"groups.{g}" for g in ("kick", "cymbals")] + ["drum_bus"]
    )
    for channel in rng.choice(channels, 3, replace=False):
        stages = [_random_stage(rng, n) for n in range(rng.integers(0, 5))]
        patch[f"{channel}.chain"] = stages
        patch[f"{channel}.fader_db"] = float(rng.uniform(-20, 6))
    sources = [*MICS, "snare", "cymbals", "punch"]
    patch["buses.more"] = {
        "sends": {
            str(s): {"db": float(rng.uniform(-20, 6)), "pre": bool(rng.integers(2))}
            for s in rng.choice(sources, 3, replace=False)
        },
        "chain": [_random_stage(rng, n) for n in range(rng.integers(0, 3))],
        "fader_db": float(rng.uniform(-20, 0)),
    }
    patch["buses.punch.sends"] = {"kick_in": {"db": 0}}
    patch["mics.kick_in.to"] = str(rng.choice(["kick", "drums", "snare"]))
    for number in range(rng.integers(0, 3)):
        path, value = [
            ("groups.kick.fader_db", -9.0),
            ("mics.tom_1.pan", 0.5),
            ("buses.more.mute", True),
            ("mics.tom_1.clean.on", True),
            ("buses.punch.sends.kick_in.db", -20.0),
        ][int(rng.integers(5))]
        bars = str(rng.choice(["1", "2-3", "3-4", "4"]))
        patch[f"over.d{number}"] = {
            "path": path,
            "value": value,
            "bars": bars,
            "ramp_ms": float(rng.uniform(1, 500)),
        }
    return patch


def test_a_stage_listens_to_a_list_of_hits(song: Any) -> None:
    """Overheads go down at the snare's hits alone, by more where they are harder."""
    hits = [
        Hit("a", "snare", 1.0, 127, "plain", 1.0, 0.0),
        Hit("b", "snare", 2.0, 32, "ghost", 1.0, 0.0),
    ]
    sheet, library = song[0], Library(song[1].path_of, lambda digest: hits)
    sheet = sheet.model_copy(
        update={"takes": tuple(t.model_copy(update={"hits": "0" * 64}) for t in sheet.takes)}
    )
    duck = {
        "kind": "compressor",
        "id": "d",
        "threshold_db": -24,
        "ratio": 4,
        "attack_ms": 0.1,
        "release_ms": 20,
        "key": {"source": "snare_hits"},
    }
    ducked = apply_patch(sheet, {"mics.overhead_l.chain.d": duck})
    engine = Engine(RATE, sheet.frames, TileCache())
    plain = engine.read(build(sheet, library).mics["overhead_l"].shaped, 0, sheet.frames)
    got = engine.read(build(ducked, library).mics["overhead_l"].shaped, 0, sheet.frames)

    def taken_db(at_s: float) -> float:
        part = slice(round(at_s * RATE), round((at_s + 0.01) * RATE))
        return float(10 * np.log10(np.sum(plain[part] ** 2.0) / np.sum(got[part] ** 2.0)))

    assert taken_db(1.002) > taken_db(2.002) > 3
    assert abs(taken_db(0.9)) < 1e-6
    with pytest.raises(SheetError, match="cannot listen to cowbell_hits"):
        apply_patch(ducked, {"mics.overhead_l.chain.d.key.source": "cowbell_hits"})


def test_random_sheets_render_any_span_as_the_whole(song: Any) -> None:
    rng = np.random.default_rng(23)
    for _ in range(120):
        sheet = apply_patch(song[0], _random_patch(rng))
        assert load(dump(sheet)) == sheet
        start = int(rng.integers(0, RATE * (SECONDS - 1)))
        stop = start + int(rng.integers(1, RATE))
        engine = Engine(RATE, sheet.frames, TileCache())
        node = build(sheet, song[1]).output
        whole = np.concatenate(
            [engine.tile(node, n) for n in range(-(-stop // engine.tile_frames))]
        )
        part = _output(sheet, song[1], start, stop)
        assert np.isfinite(part).all()
        assert np.abs(part).max() <= 10 ** (24 / 20) + 1e-3
        assert amplitude_to_db(float(np.abs(part - whole[start:stop]).max())) <= -80


def test_a_stage_reacts_to_what_it_listens_to(song: Any) -> None:
    """A compressor on the overhead that listens to the tom reduces when the tom is struck."""
    squash = {
        "kind": "compressor",
        "id": "c",
        "threshold_db": -20,
        "ratio": 20,
        "release_ms": 50,
        "attack_ms": 1,
    }

    def reduced(source: str) -> np.ndarray:
        stage = {**squash, "key": {"source": source}}
        sheet = apply_patch(song[0], {"mics.overhead_l.chain": [stage]})
        graph, engine = build(sheet, song[1]), Engine(RATE, SECONDS * RATE, TileCache())
        before = engine.read(graph.chain("overhead_l").entry, 0, sheet.frames)
        after = engine.read(graph.chain("overhead_l").end, 0, sheet.frames)
        key = engine.read(graph.node("overhead_l.c.key"), 0, sheet.frames)
        heard = engine.read(graph.mics[source or "overhead_l"].clean, 0, sheet.frames)
        assert np.array_equal(key, heard)
        return np.abs(after) / np.maximum(np.abs(before), 1e-9)

    tom = Engine(RATE, SECONDS * RATE, TileCache()).read(
        build(*song).mics["tom_1"].clean, 0, SECONDS * RATE
    )
    rings = scipy.ndimage.maximum_filter1d(np.abs(tom), 80)
    loud, silent = rings > 0.5, scipy.ndimage.maximum_filter1d(rings, 6000) < 0.05
    by_tom = reduced("tom_1")
    assert np.median(by_tom[loud]) < 0.6
    assert silent.any()
    assert np.median(by_tom[silent]) > 0.95
    assert not np.allclose(reduced(""), by_tom, atol=0.05)


def test_a_key_filter_is_heard_alone(song: Any) -> None:
    stage = {"kind": "compressor", "id": "c", "key": {"source": "kick_in", "high_pass_hz": 1000}}
    sheet = apply_patch(song[0], {"mics.snare_top.chain": [stage], "drum_bus.chain": [stage]})
    engine = Engine(RATE, sheet.frames, TileCache())
    graph = build(sheet, song[1])
    heard = engine.read(graph.node("snare_top.c.key"), 0, sheet.frames)
    kick = engine.read(graph.mics["kick_in"].clean, 0, sheet.frames)
    hz = np.fft.rfftfreq(len(kick), 1 / RATE)
    lost = (
        np.abs(np.fft.rfft(heard))[(hz > 100) & (hz < 250)]
        / np.abs(np.fft.rfft(kick))[(hz > 100) & (hz < 250)]
    )
    assert np.median(lost) < 0.1
    assert np.array_equal(heard, engine.read(graph.node("drum_bus.c.key"), 0, sheet.frames))
    with pytest.raises(SheetError):
        graph.node("snare_top.nobody.key")


@pytest.mark.parametrize(
    ("channel", "source"),
    [
        ("mics.snare_top", "snare"),
        ("mics.snare_top", "punch"),
        ("groups.snare", "punch"),
        ("buses.punch", "punch"),
        ("drum_bus", "nobody"),
        ("mics.snare_top", "tom_9"),
    ],
)
def test_nobody_listens_to_what_comes_later_or_is_not_there(
    song: Any, channel: str, source: str
) -> None:
    stage = {"kind": "compressor", "id": "c", "key": {"source": source}}
    with pytest.raises(SheetError, match=source):
        apply_patch(song[0], {f"{channel}.chain": [stage]})


def test_on_standby_nothing_is_changed(song: Any) -> None:
    rng = np.random.default_rng(24)
    plain = _output(song[0], song[1])
    for _ in range(10):
        stages = [{**_random_stage(rng, n), "on": False} for n in range(4)]
        sheet = apply_patch(
            song[0],
            {"mics.snare_top.chain": stages, "groups.toms.chain": stages, "drum_bus.chain": stages},
        )
        assert np.array_equal(_output(sheet, song[1]), plain)


FIRST_PATCHES = [
    ("mics.snare_top.eq.bands.1.gain_db", -4.5, "mics.snare_top.chain.eq.bands.b2.gain_db", -4.5),
    ("mics.hat.eq.high_pass.on", True, "mics.hat.chain.eq.high_pass.on", True),
    ("mics.hat.transient.attack_db", 2.0, "mics.hat.chain.transient.attack_db", 2.0),
    ("parallel.punch.compressor.ratio", 4.0, "buses.strike.chain.compressor.ratio", 4.0),
    ("parallel.punch.blend_db", -9.0, "buses.strike.fader_db", -9.0),
    ("parallel.punch.on", False, "buses.strike.mute", True),
    ("parallel.punch.sends.tom_1", -4.0, "buses.strike.sends.tom_1", {"db": -4.0}),
    ("parallel.punch.sends.tom_1", None, "buses.strike.sends.tom_1", None),
    ("drum_bus.compressor.on", True, "drum_bus.chain.compressor.on", True),
    ("drum_bus.level_db", -3.0, "drum_bus.fader_db", -3.0),
    ("mics.hat.clean.on", True, "mics.hat.clean.on", True),
    ("mics.hat.chain.eq.on", True, "mics.hat.chain.eq.on", True),
    ("buses.punch.fader_db", -3.0, "buses.punch.fader_db", -3.0),
]


@pytest.mark.parametrize(("path", "value", "now", "now_value"), FIRST_PATCHES)
def test_changes_of_the_first_version_are_said_anew(
    path: str, value: Any, now: str, now_value: Any
) -> None:
    assert upgraded_patch({path: value}) == {now: now_value}


def test_a_first_sheet_without_all_values_keeps_its_defaults() -> None:
    first = {
        "version": 1,
        "rate": 48000,
        "frames": 48000,
        "takes": [{"number": 1, "sources": {}}],
        "mics": {"kick_in": {"role": "kick_in"}},
        "parallel": {"punch": {}},
    }
    sheet = Sheet.model_validate(upgraded(first))
    assert [s.on for s in sheet.mics["kick_in"].chain] == [True, True, False]
    assert sheet.buses["strike"].fader_db == -90
    assert sheet.mics["kick_in"].to == "kick"
    assert set(sheet.groups) == {"kick"}
    assert "kick_in" in GROUPS["kick"]


class _Tremolo:
    """Louder and softer four times a second, counted from the song's beginning."""

    latency, memory = 7, 8

    def settings(self) -> Any:
        return ["tremolo"]

    def at_rest(self, channels: int = 1) -> np.ndarray:
        return np.zeros((self.latency, channels))

    def run(self, audio: Any, state: np.ndarray, key: Any = None, at: int = 0) -> Any:
        gain = 0.5 + 0.5 * np.sin(2 * np.pi * 4 * (at + np.arange(len(audio))) / RATE)
        late = np.concatenate([state[:, 0], audio * gain])
        state[:, 0] = late[len(audio) :]
        return late[: len(audio)].astype(np.float32)


def test_what_goes_in_tempo_sounds_on_the_page_as_in_the_print(song: Any) -> None:
    """Early stretches begin anew every few seconds; the processor knows where in the song it is."""
    source = build(*song).mics["snare_top"].placed
    two = Processed(source, (Link(_Tremolo()), Link(_Tremolo())))
    frames = SECONDS * RATE
    exact = Engine(RATE, frames, TileCache()).read(two, 0, frames)
    early = Engine(RATE, frames, TileCache(), early=True).read(two, 0, frames)
    assert amplitude_to_db(float(np.abs(exact).max())) > -20
    assert amplitude_to_db(float(np.abs(early - exact).max())) < -100
    plain = Engine(RATE, frames, TileCache()).read(source, 0, frames)
    gain = 0.5 + 0.5 * np.sin(2 * np.pi * 4 * np.arange(frames) / RATE)
    # The second one's first sample is `latency` samples older than the first one's.
    assert np.allclose(exact[100:-100], (plain * gain * gain)[100:-100], atol=1e-6)


TOY = (
    """
import re, sys, types
"""
    + example("processor")
    + """

# The registry with one more name in its list.
import arkund.core.process as package
from pathlib import Path
source = Path(package.__file__).with_name("registry.py").read_text()
source = re.sub(r"(PROCESSORS[^=]*= [(])", r"\\1Halver, ", source)
registry = types.ModuleType("arkund.core.process.registry")
registry.Halver = Halver
sys.modules["arkund.core.process.registry"] = registry
exec(compile(source, "registry.py", "exec"), registry.__dict__)
"""
)


def test_a_processor_is_added_by_its_module_and_one_name(tmp_path: Path) -> None:
    """Rendered, ruled, named, documented, set by a path, and undone, with nothing else touched."""
    script = (
        TOY
        + """
import json, os
os.environ["DJANGO_SETTINGS_MODULE"] = "arkund.studio.settings"
import django; django.setup()
from arkund.bench.rulers import stage_rulers
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.graph.building import build
from arkund.core.sheet.patches import apply_patch, inverse_patch
from arkund.core.sheet.sheet import json_schema, load
from arkund.core.process.document import document
from arkund.songs.wording import label_of
from tests.core.references import material
import tempfile
from tests.core.written_song import written_song
sheet = load(json.dumps(material.documents()["open"]))
path = "mics.kick_in.chain.h1"
patch = {path: {"kind": "halver", "less_db": 12}}
more = apply_patch(sheet, patch)
with tempfile.TemporaryDirectory() as folder:
    library = material.library(list(sheet.mics), Path(folder))
    def kick(s):
        return Engine(s.rate, s.frames, TileCache()).read(build(s, library).node("kick_in"), 0, 96000)
    ratio = float(np.abs(kick(more)).max() / np.abs(kick(sheet)).max())
stage = more.mics["kick_in"].chain[-1]
print(json.dumps({
    "ratio": ratio, "ruler": [r.path for r in stage_rulers("mics.kick_in", stage)],
    "words": label_of({path + ".less_db": 3.0}, {path + ".less_db": 12.0}, more),
    "documented": "Less of everything." in document() and "`less_db`" in document(),
    "schema": "Halver" in json.dumps(json_schema()),
    "undone": apply_patch(more, inverse_patch(sheet, patch)) == sheet,
}))
"""
    )
    file = tmp_path / "toy.py"
    file.write_text(script)
    root = Path(__file__).parent.parent.parent
    done = subprocess.run(
        [sys.executable, str(file)],
        capture_output=True,
        text=True,
        check=False,
        cwd=root,
        env={"PYTHONPATH": str(root), "PATH": "/usr/bin:/bin", "ARKUND_DATA": str(tmp_path)},
    )
    assert done.returncode == 0, done.stderr
    import json

    told = json.loads(done.stdout.splitlines()[-1])
    assert told["ratio"] == pytest.approx(10 ** (-12 / 20), rel=1e-4)
    assert told["ruler"] == ["mics.kick_in.chain.h1.less_db"]
    assert told["words"] == "kick in: halver h1 less 12 dB → 3 dB"
    assert told["documented"]
    assert told["schema"]
    assert told["undone"]


def test_kinds_are_told_apart_by_their_names() -> None:
    assert len(BY_KIND) == len(PROCESSORS) == len({p.label for p in PROCESSORS})
    assert all(issubclass(p, Stage) for p in PROCESSORS)
