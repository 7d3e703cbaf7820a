"""``python -m benchmarks.printing``: a print beside the same work in a compiled general effects library.

Twelve mics of three minutes: gate, two filters and four bands, compressor; stems and mix as 24-bit files. Both
are run as whole processes, in turn, on two threads each.
"""

import argparse
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import soundfile as sf

RATE, MICS, SECONDS = 48000, 12, 180
BAR = 1.0


def main() -> None:
    """Print the row: ours and theirs in seconds, and their ratio."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--seconds", type=int, default=SECONDS)
    parser.add_argument("--run", choices=("ours", "theirs"), help="one process of one of them")
    parser.add_argument("--folder", type=Path)
    args = parser.parse_args()
    if args.run:
        {"ours": ours, "theirs": theirs}[args.run](args.folder)
        return
    with tempfile.TemporaryDirectory() as scratch:
        folder = args.folder or Path(scratch)
        recorded(folder, args.seconds)
        taken: dict[str, list[float]] = {"ours": [], "theirs": []}
        for _ in range(args.rounds + 1):
            for name, times in taken.items():
                shutil.rmtree(folder / name, ignore_errors=True)
                began = time.perf_counter()
                command = [sys.executable, "-m", "benchmarks.printing", "--run", name]
                subprocess.run([*command, "--folder", str(folder)], check=True)
                times.append(time.perf_counter() - began)
    # The first round compiles and fills the disk's memory.
    own, other = (statistics.median(times[1:]) for times in taken.values())
    met = "yes" if other / own >= BAR else "**no**"
    print(
        f"| print of the same work, {own:.1f} s against {other:.1f} s "
        f"| {other / own:.2f} × | ≥ {BAR} × | {met} |"
    )


def recorded(folder: Path, seconds: int) -> None:
    """Hits that ring and decay, in another place in each mic."""
    folder.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(1)
    for number in range(MICS):
        path = folder / f"mic {number}.wav"
        if path.exists() and abs(sf.info(path).duration - seconds) < 0.1:
            continue
        sound = 0.001 * rng.standard_normal(seconds * RATE)
        ring = rng.standard_normal(RATE // 4) * np.exp(-np.arange(RATE // 4) / 2400)
        for begin in rng.integers(0, len(sound) - len(ring), seconds * 4):
            sound[begin : begin + len(ring)] += 0.1 * ring
        sf.write(path, sound.astype(np.float32), RATE, subtype="PCM_24")


def ours(folder: Path) -> None:
    """The product's own print."""
    from arkund.core.graph.building import build
    from arkund.core.hits.hit import Hit
    from arkund.core.process.equaliser import Equaliser
    from arkund.core.render.cache import TileCache
    from arkund.core.render.engine import Engine
    from arkund.core.render.printing import print_song
    from arkund.core.render.stems import stems_of
    from arkund.core.render.wish import Wish
    from arkund.core.sheet.channels import groups_for, new_mic
    from arkund.core.sheet.lanes import Library
    from arkund.core.sheet.patches import apply_patch
    from arkund.core.sheet.sheet import Sheet, Source, Take
    from arkund.songs import memory

    names = [*("kick_in", "kick_out", "snare_top", "snare_bottom", "tom_1", "tom_2", "tom_3")]
    names += ["hat", "ride", "overhead_l", "overhead_r", "room"]
    paths = {f"{n:064x}": path for n, path in enumerate(sorted(folder.glob("mic *.wav")))}
    sources = {m: Source(sha256=digest) for m, digest in zip(names, paths, strict=True)}
    frames = sf.info(next(iter(paths.values()))).frames
    mics = {m: new_mic(m) for m in names}
    patch: dict[str, object] = {}
    for mic in names:
        at = f"mics.{mic}.chain.eq"
        patch |= {f"mics.{mic}.clean.on": True, f"mics.{mic}.chain.compressor.on": True}
        for cut in ("high_pass", "low_pass"):
            patch |= {f"{at}.{cut}.on": True, f"{at}.{cut}.slope_db_oct": 6}
        for band in Equaliser().bands[:4]:
            patch |= {f"{at}.bands.{band.id}.on": True, f"{at}.bands.{band.id}.gain_db": 3}
    plain = Sheet(
        rate=RATE,
        frames=frames,
        takes=(Take(number=1, sources=sources, hits="f" * 64),),
        mics=mics,
        groups=groups_for(mics),
    )
    sheet = apply_patch(plain, patch)
    hits = [
        Hit(f"{piece}{n}", piece, n / 2.0, 90, "plain", 1.0, 0.0)
        for n in range(2 * frames // RATE)
        for piece in ("kick", "snare")
    ]
    memory.hold()
    cache = TileCache()
    engine = Engine(RATE, frames, cache, sources=cache.sources, keeps=False)
    graph = build(sheet, Library(paths.__getitem__, lambda digest: hits))
    print_song(engine, graph, stems_of(graph, Wish(["mics", "mix"]), song="kit"), folder / "ours")


def theirs(folder: Path) -> None:
    """The same, in the library's words: read whole, run whole, write whole, two mics at a time."""
    from pedalboard import (  # type: ignore[attr-defined]
        Compressor,
        HighpassFilter,
        LowpassFilter,
        NoiseGate,
        PeakFilter,
        Pedalboard,
    )

    out = folder / "theirs"
    out.mkdir(exist_ok=True)

    def one(path: Path) -> np.ndarray[tuple[int, int], np.dtype[np.float32]]:
        sound, rate = sf.read(path, dtype="float32")
        board = Pedalboard(
            [
                NoiseGate(-40, 10, 1, 100),
                HighpassFilter(40),
                LowpassFilter(15000),
                *(PeakFilter(hz, 3, 1) for hz in (100, 400, 2000, 6000)),
                Compressor(-20, 4, 10, 100),
            ]
        )
        stereo = np.repeat(board(sound, rate)[:, None], 2, axis=1) * np.float32(np.sqrt(0.5))
        sf.write(out / path.name, stereo, rate, subtype="PCM_24")
        return stereo

    with ThreadPoolExecutor(2) as pool:
        total = sum(pool.map(one, sorted(folder.glob("mic *.wav"))))
    sf.write(out / "mix.wav", total, RATE, subtype="PCM_24")


if __name__ == "__main__":
    main()
