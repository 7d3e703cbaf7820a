"""How fast: kernels against pedalboard, and the product's own times, with ratios in one run.

Prints the table of docs/benchmarks.md. Medians of alternating runs, for the machine is noisy.
"""

import resource
import shutil
import statistics
import tempfile
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from pedalboard import Compressor as TheirCompressor
from pedalboard import NoiseGate, PeakFilter, Pedalboard  # type: ignore[attr-defined]

from arkund.core.align.takes import align_take
from arkund.core.clean import gate
from arkund.core.graph.building import build
from arkund.core.hits.detect import detect_hits
from arkund.core.hits.heard import heard_levels
from arkund.core.measure.levels import measure_mic, measure_sound
from arkund.core.process.band import Band
from arkund.core.process.compressor import Compressor
from arkund.core.process.equaliser import Equaliser
from arkund.core.process.limiter import Limiter
from arkund.core.process.saturation import Saturation
from arkund.core.process.stage import Stage
from arkund.core.process.transient import BandAbove, Transient
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.printing import print_song
from arkund.core.render.stems import stems_of
from arkund.core.render.wish import Wish
from arkund.core.shape import biquad, compressor, transient
from arkund.core.shape.compressor import FAMILIES
from arkund.core.sheet.channels import Bus, Send, groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take
from arkund.core.simulate.session import simulate, write_session
from benchmarks import laying

RATE = 48000


def _times(jobs: dict[str, Callable[[], object]], rounds: int = 9) -> dict[str, float]:
    """Median seconds of each job, run in turn."""
    taken: dict[str, list[float]] = {name: [] for name in jobs}
    for job in jobs.values():
        job()
    for _ in range(rounds):
        for name, job in jobs.items():
            start = time.perf_counter()
            job()
            taken[name].append(time.perf_counter() - start)
    return {name: statistics.median(values) for name, values in taken.items()}


def main() -> None:
    print("| what | measured | bar | met |\n|---|---|---|---|")
    _kernels()
    _song()
    _memory()


def _row(what: str, value: str, bar: str, met: bool | None) -> None:
    print(
        f"| {what} | {value} | {bar} | {'–' if met is None else 'yes' if met else '**no**'} |",
        flush=True,
    )


def _kernels() -> None:
    rng = np.random.default_rng(0)
    sound = (
        rng.standard_normal(RATE * 30) * np.repeat(rng.uniform(0.01, 0.5, 300), RATE // 10)
    ).astype(np.float32)
    threshold = float(20 * np.log10(np.median(np.abs(sound))))
    squeeze = compressor.Settings(threshold, 4, 0, 10, 100)
    theirs_gate = Pedalboard([NoiseGate(-20, 10, 1, 100)])
    theirs_comp = Pedalboard([TheirCompressor(threshold, 4, 10, 100)])
    sections = [
        biquad.match(biquad.bell(3, 1), hz, RATE) for hz in (100, 200, 400, 800, 1600, 3200)
    ]
    got = _times(
        {
            "gate": lambda: gate.gate(sound, sound, -20, 6, -40, gate.Timing(48, 480, 4800)),
            "their gate": lambda: theirs_gate(sound, RATE),
            "comp": lambda: compressor.run(sound, sound, squeeze, RATE, compressor.new_state()),
            "their comp": lambda: theirs_comp(sound, RATE),
            "six biquads": lambda: biquad.run(sound, sections, biquad.new_state(sections)),
            "transient": lambda: transient.run(
                sound, transient.Settings(3, -3), RATE, transient.new_state()
            ),
            **_processors(sound),
        }
    )
    ratio = got["their gate"] / got["gate"]
    _row("gate kernel against pedalboard's", f"{ratio:.2f} ×", "≥ 1.5 ×", ratio >= 1.5)
    ratio = got["their comp"] / got["comp"]
    _row("compressor with trace against pedalboard's", f"{ratio:.2f} ×", "≥ 1.0 ×", ratio >= 1.0)
    for name in ("gate", "comp", "six biquads", "transient", "saturation", "limiter"):
        taken, bar = got[name] / len(sound) * 1e9, 18 if name == "transient" else None
        _row(
            f"{name}, a sample",
            f"{taken:.1f} ns",
            f"≤ {bar} ns" if bar else "–",
            taken <= bar if bar else None,
        )
    _families(sound, threshold)
    quiet = np.zeros_like(sound)
    quiet[:2000] = sound[:2000]
    silent = _times(
        {
            "comp": lambda: compressor.run(quiet, quiet, squeeze, RATE, compressor.new_state()),
            "six biquads": lambda: biquad.run(quiet, sections, biquad.new_state(sections)),
            "transient": lambda: transient.run(
                quiet, transient.Settings(3, -3), RATE, transient.new_state()
            ),
            "gate": lambda: gate.gate(quiet, quiet, -20, 6, -40, gate.Timing(48, 480, 4800)),
        }
    )
    worst = max(silent[n] / got[n] for n in silent)
    _row(
        "slowest kernel on silence after a hit, against music",
        f"{worst:.2f} ×",
        "≤ 1.5 ×",
        worst <= 1.5,
    )


def _families(sound: NDArray[np.float32], threshold: float) -> None:
    """The compressor's families, a detector of power and a band that moves against what the library has: its
    compressor, and its bell and compressor one after the other."""
    times = {"threshold_db": threshold, "attack_ms": 10, "release_ms": 100}
    stages: dict[str, Stage] = {f: Compressor(family=f, **times) for f in FAMILIES[1:]}
    stages["power"] = Compressor(detector="power", **times)
    stages["moving bell"] = Equaliser(bands=(Band(id="b1", on=True, range_db=6),))
    stages["transient, four bands"] = Transient(
        attack_db=3,
        bands=[BandAbove(id=f"b{hz}", frequency_hz=hz, attack_db=3) for hz in (200, 1500, 6000)],
    )
    theirs = {
        "comp": Pedalboard([TheirCompressor(threshold, 4, 10, 100)]),
        "bell": Pedalboard([PeakFilter(1000, 6, 1), TheirCompressor(threshold, 4, 10, 100)]),
    }
    runs: dict[str, Callable[[], object]] = {
        name: partial(board, sound, RATE) for name, board in theirs.items()
    }
    for name, stage in stages.items():
        process = stage.process(RATE)
        runs[name] = partial(lambda p: p.run(sound, p.at_rest()), process)
    got = _times(runs)
    for name in (*FAMILIES[1:], "power"):
        ratio = got["comp"] / got[name]
        _row(f"compressor, {name}, against pedalboard's", f"{ratio:.2f} ×", "≥ 1.0 ×", ratio >= 1.0)
    ratio = got["bell"] / got["moving bell"]
    what = "a band that moves, against pedalboard's bell and compressor"
    _row(what, f"{ratio:.2f} ×", "≥ 1.0 ×", ratio >= 1.0)
    four = got["transient, four bands"] / len(sound) * 1e9
    _row("transient in four bands, a sample", f"{four:.1f} ns", "–", None)


def _processors(sound: NDArray[np.float32]) -> dict[str, Callable[[], object]]:
    """Runs of those that have no yardstick."""
    runs: dict[str, Callable[[], object]] = {}
    for stage in (Saturation(drive_db=12), Limiter(ceiling_db=-6)):
        process = stage.process(RATE)
        runs[stage.kind] = partial(lambda p: p.run(sound, p.at_rest()), process)
    return runs


def _song() -> None:
    start = time.perf_counter()
    session = simulate("copper", 1)
    _row("simulating the demo's take", f"{time.perf_counter() - start:.1f} s", "–", None)
    seconds = session.truth["frames"] / session.rate

    def analyse() -> None:
        """As `arkund.songs.analysing` does."""
        sounds = list(session.mics.values())
        with ThreadPoolExecutor(1) as beside:
            plain = beside.map(lambda s: measure_sound(s, session.rate), sounds)
            hits = detect_hits(session.mics, session.rate)
            align_take(session.mics, hits, session.rate)
            onsets = [h.time_s for h in hits][:100]
        with ThreadPoolExecutor(2) as both:
            list(both.map(lambda s, k: measure_mic(s, session.rate, onsets, k), sounds, plain))
            list(both.map(lambda s: heard_levels(s, session.rate, hits), sounds))

    frames = 180 * session.rate
    long = {m: np.resize(sound, frames) for m, sound in session.mics.items()}
    found = _times({"hits": lambda: detect_hits(long, session.rate)}, rounds=3)["hits"]
    _row("hits of 13 mics, three minutes", f"{found:.1f} s", "≤ 6 s", found <= 6)
    _row(*laying.row())
    taken = _times({"analysis": analyse}, rounds=3)["analysis"]
    _row(
        "first analysis of a take, 13 mics",
        f"{seconds / taken:.0f} × real time",
        "≥ 40 ×",
        seconds / taken >= 40,
    )
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        write_session(session, folder)
        sources = {m: Source(sha256=f"{n:064x}") for n, m in enumerate(session.mics)}
        paths = {s.sha256: folder / session.preset.files[m] for m, s in sources.items()}
        hits = detect_hits(session.mics, session.rate)
        library = Library(paths.__getitem__, lambda digest: hits)
        plain = Sheet(
            rate=session.rate,
            frames=session.truth["frames"],
            takes=(Take(number=1, sources=sources, hits="0" * 64),),
            mics={m: new_mic(m) for m in session.mics},
            groups=groups_for({m: new_mic(m) for m in session.mics}),
            buses={
                "punch": Bus(
                    sends=dict.fromkeys(list(sources)[:8], Send()),
                    chain=(Compressor(threshold_db=-30),),
                    fader_db=-9,
                )
            },
        )
        full = apply_patch(plain, _everything(list(sources)))
        for name, sheet, bar in (
            ("as it came", plain, 40),
            ("every stage on every mic", full, 20),
        ):
            taken = _prints(sheet, library, folder / "out")
            _row(
                f"full print, {name}",
                f"{seconds / taken:.1f} × real time",
                f"≥ {bar} ×",
                seconds / taken >= bar,
            )
        _tiles(plain, full, library)


def _prints(sheet: Sheet, library: Library, folder: Path, rounds: int = 5) -> float:
    """Median seconds of a print into an empty folder."""
    taken = []
    for _ in range(rounds + 1):
        cache = TileCache()
        engine = Engine(sheet.rate, sheet.frames, cache, sources=cache.sources)
        start = time.perf_counter()
        graph = build(sheet, library)
        print_song(engine, graph, stems_of(graph, Wish(), song="kit"), folder)
        taken.append(time.perf_counter() - start)
        shutil.rmtree(folder)
    return statistics.median(taken[1:])


def _tiles(plain: Sheet, full: Sheet, library: Library) -> None:
    """What is heard after a change: one tile that nobody has asked for yet, and four seconds."""

    def cold(sheet: Sheet, number: int) -> float:
        taken = []
        for _ in range(8):
            engine = Engine(sheet.rate, sheet.frames, TileCache(), early=True)
            node = build(sheet, library).mics["snare_top"].shaped
            start = time.perf_counter()
            engine.tile(node, number)
            taken.append(time.perf_counter() - start)
        return statistics.median(taken[1:]) * 1000

    chain: list[dict[str, object]] = []
    for n in range(4):
        bands = [
            {"id": f"b{k}", "on": True, "gain_db": 3, "frequency_hz": 100 * 2**k} for k in range(4)
        ]
        chain += [
            {"kind": "eq", "id": f"e{n}", "bands": bands},
            {"kind": "transient", "id": f"t{n}", "attack_db": 2},
            {"kind": "compressor", "id": f"c{n}", "threshold_db": -24},
        ]
    taken = cold(apply_patch(plain, {"mics.snare_top.chain": chain}), 20)
    _row(
        "twelve stages on one mic, one cold tile of 2 s", f"{taken:.0f} ms", "≤ 60 ms", taken <= 60
    )
    release = {
        "mics.snare_top.chain.compressor.on": True,
        "mics.snare_top.chain.compressor.release_ms": 310,
    }
    taken = cold(apply_patch(plain, release), 30)
    _row("a release of 310 ms, one cold tile 60 s into the song", f"{taken:.0f} ms", "–", None)
    engine = Engine(full.rate, full.frames, TileCache(), early=True)
    span = (20 * full.rate, 38 * full.rate)
    engine.read(build(full, library).output, *span)
    changes = []
    for n in range(9):
        sheet = apply_patch(full, {"mics.snare_top.chain.compressor.threshold_db": -20.0 - n})
        start = time.perf_counter()
        engine.read(build(sheet, library).output, span[0], span[0] + 4 * full.rate)
        changes.append(time.perf_counter() - start)
    taken = statistics.median(changes) * 1000
    _row(
        "one control on one mic: first 4 s rendered",
        f"{taken:.0f} ms",
        "≤ 90 ms with transport",
        taken < 90,
    )


def _memory() -> None:
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    _row("memory of this whole run", f"{peak:.0f} MB", "–", None)


def _everything(mics: list[str]) -> dict[str, object]:
    patch: dict[str, object] = {}
    for mic in mics:
        m = f"mics.{mic}"
        c = f"{m}.chain"
        patch |= {
            f"{m}.clean.on": True,
            f"{m}.clean.opens_on": "threshold",
            f"{c}.eq.high_pass.on": True,
            f"{c}.eq.low_pass.on": True,
            f"{c}.transient.attack_db": 3,
            f"{c}.compressor.on": True,
            f"{m}.delay_samples": 3.5,
        }
        for band in range(1, 5):
            patch |= {f"{c}.eq.bands.b{band}.on": True, f"{c}.eq.bands.b{band}.gain_db": 3}
    return patch


if __name__ == "__main__":
    main()
