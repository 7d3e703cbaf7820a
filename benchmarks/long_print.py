"""An hour of 16 mics, printed: how fast, and how much memory the process takes for it.

`python -m benchmarks.long_print DIR [MINUTES]` writes bursts that ring and bleed to ``DIR`` (5 GB for an
hour), gates shells on their hits, puts EQ and compressors on all mics, saturation on two groups,
two parallel buses, glue and a limiter on top, and prints the mix alone.
"""

import resource
import sys
import time
from pathlib import Path

import numpy as np
import soundfile as sf

from arkund.core.graph.building import build
from arkund.core.hits.hit import Hit
from arkund.core.process.compressor import Compressor
from arkund.core.render.cache import TileCache
from arkund.core.render.engine import Engine
from arkund.core.render.printing import print_song
from arkund.core.render.stems import stems_of
from arkund.core.render.wish import Wish
from arkund.core.sheet.channels import Bus, Send, groups_for, new_mic
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.patches import apply_patch
from arkund.core.sheet.sheet import Sheet, Source, Take

RATE, HIT_S = 44100, 0.25
MICS = (
    *("kick_in", "kick_out", "snare_top", "snare_bottom", "hat", "ride", "tom_1", "tom_2", "tom_3"),
    *("overhead_l", "overhead_r", "room_l", "room_r", "room", "crush", "crash_1"),
)
GATED = ("kick_in", "kick_out", "snare_top", "tom_1", "tom_2", "tom_3")


def _write(path: Path, seconds: int, seed: int) -> None:
    """A burst every quarter of a second, a minute at a time."""
    rng, block = np.random.default_rng(seed), 60 * RATE
    with sf.SoundFile(path, "w", RATE, 1, "PCM_16") as file:
        for _ in range(seconds // 60):
            sound = rng.standard_normal(block).astype(np.float32) * np.float32(0.002)
            ring = np.exp(-np.arange(round(HIT_S * RATE)) / 3000) * 0.4
            for at in range(0, block - len(ring), len(ring)):
                pitch = rng.uniform(0.01, 0.3)
                sound[at : at + len(ring)] += np.sin(pitch * np.arange(len(ring))) * ring
            file.write(sound)


def main() -> None:
    folder = Path(sys.argv[1])
    seconds = 60 * (int(sys.argv[2]) if len(sys.argv) > 2 else 60)
    folder.mkdir(parents=True, exist_ok=True)
    paths, sources = {}, {}
    for number, mic in enumerate(MICS):
        path = folder / f"{mic}.wav"
        if not path.exists():
            _write(path, seconds, number)
        digest = f"{number:064x}"
        paths[digest], sources[mic] = path, Source(sha256=digest)
    hits = [
        Hit(f"{piece}{n}", piece, round(n * HIT_S, 6), 90, "plain", 1.0, 0.0)
        for n in range(round(seconds / HIT_S))
        for piece in ("kick", "snare", "tom_1", "tom_2", "tom_3")
    ]
    mics = {m: new_mic(m) for m in MICS}
    squeeze = (Compressor(on=True, ratio=10, threshold_db=-30),)
    plain = Sheet(
        rate=RATE,
        frames=seconds * RATE,
        takes=(Take(number=1, sources=sources, hits="f" * 64),),
        mics=mics,
        groups=groups_for(mics),
        buses={
            "strike": Bus(sends={m: Send(db=0.0) for m in GATED}, chain=squeeze, fader_db=-9),
            "bloom": Bus(sends={m: Send(db=0.0) for m in MICS[2:]}, chain=squeeze, fader_db=-12),
        },
    )
    patch: dict[str, object] = {
        "drum_bus.chain.compressor.on": True,
        "drum_bus.chain.l1": {"kind": "limiter", "ceiling_db": -6},
    }
    for mic in MICS:
        patch |= {
            f"mics.{mic}.chain.eq.high_pass.on": True,
            f"mics.{mic}.chain.eq.bands.b3.on": True,
            f"mics.{mic}.chain.eq.bands.b3.gain_db": 3,
            f"mics.{mic}.chain.compressor.on": True,
            f"mics.{mic}.clean.on": mic in GATED,
        }
    for group in ("kick", "snare"):
        patch[f"groups.{group}.chain.s1"] = {"kind": "saturation", "drive_db": 9}
    sheet = apply_patch(plain, patch)
    cache = TileCache()
    engine = Engine(RATE, sheet.frames, cache, sources=cache.sources, keeps=False)
    graph = build(sheet, Library(paths.__getitem__, lambda digest: hits))
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    began = time.perf_counter()
    report = print_song(engine, graph, stems_of(graph, Wish(["mix"]), song="kit"), folder / "print")
    took = time.perf_counter() - began
    most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(
        f"{seconds / 60:.0f} minutes of {len(MICS)} mics printed in {took:.0f} s, {seconds / took:.1f} × real "
        f"time; {most} MB at most, {before} before; peak {report.peak_dbfs} dBFS"
    )


if __name__ == "__main__":
    main()
