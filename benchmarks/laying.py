"""How fast layers are: 4,000 hits of a snare with two layers of sixteen samples each."""

import tempfile
import time
from pathlib import Path

import numpy as np
import soundfile as sf

from arkund.core.graph.building import build
from arkund.core.hits.hit import Hit
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.sheet.channels import groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take

RATE, HITS, APART_S, SAMPLES = 48000, 4000, 0.15, 16


def row() -> tuple[str, str, str, bool]:
    """The row of the benchmarks' table: what, measured, bar, whether it is met."""
    laid = times_real_time()
    what = f"{HITS:,} hits with two layers, one core"
    return what, f"{laid:.0f} × real time", "≥ 60 ×", laid >= 60


def times_real_time() -> float:
    """How many times faster than it plays such a song's layers are decided and rendered, on one
    core."""
    with tempfile.TemporaryDirectory() as scratch:
        sheet, library = _song(Path(scratch) / "snare.wav")
        samples = [{"hit": f"h{n}", "frames": round(0.14 * RATE)} for n in range(2 * SAMPLES)]
        layer = {"kind": "samples", "of": "snare_top", "hits": "all"}
        laid = apply_patch(
            sheet,
            {
                "layers.one": {**layer, "samples": samples[:SAMPLES]},
                "layers.two": {**layer, "samples": samples[SAMPLES:], "following": 0.5},
            },
        )
        engine = Engine(RATE, laid.frames, TileCache())
        graph = build(laid, library)
        engine.read(graph.layers["one"], 0, RATE)  # compiles what is compiled
        start = time.process_time()
        engine = Engine(RATE, laid.frames, TileCache())
        for name in ("one", "two"):
            for at in range(0, laid.frames, 8 * RATE):
                engine.read(graph.layers[name], at, min(at + 8 * RATE, laid.frames))
        return laid.frames / RATE / (time.process_time() - start)


def _song(path: Path) -> tuple[Sheet, Library]:
    """A snare alone, no two hits alike in level and tone."""
    rng = np.random.default_rng(5)
    frames = round((HITS + 2) * APART_S * RATE)
    sound, hits = np.zeros(frames, np.float32), []
    length = round(0.14 * RATE)
    fall = np.exp(-np.arange(length) / (0.03 * RATE))
    for n in range(HITS):
        at = round((n + 1) * APART_S * RATE + rng.integers(-200, 200))
        level = float(rng.uniform(0.1, 0.5))
        tone = np.sin(2 * np.pi * rng.uniform(185, 195) * np.arange(length) / RATE)
        sound[at : at + length] += level * fall * (tone + 0.3 * rng.standard_normal(length))
        hits.append(Hit(f"h{n}", "snare", at / RATE, round(127 * level * 2), "accent", 1.0, 0.0))
    sf.write(str(path), sound, RATE, subtype="FLOAT")
    mics = {"snare_top": new_mic("snare_top")}
    sheet = Sheet(
        rate=RATE,
        frames=frames,
        takes=(Take(number=1, sources={"snare_top": Source(sha256="1" * 64)}, hits="0" * 64),),
        mics=mics,
        groups=groups_for(mics),
    )
    return sheet, Library(lambda digest: path, lambda digest: hits)
