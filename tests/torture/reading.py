"""Twenty readers at once, and one who saves beside them."""

import random
import statistics
import threading
import time
from pathlib import Path

from arkund.bench.stations.registry import STATIONS
from tests.torture.rows import Row
from tests.torture.running import Bench

SAVE_MS = 150.0
READERS = 20


def run_readers(seed: int, folder: Path, seconds: float) -> Row:
    """Pages, pictures and sound for twenty, each asking again as soon as it has its answer."""
    row = Row(f"{READERS} readers and one who saves")
    bench = Bench(folder / "readers")
    slug = bench.make_songs("Full House")[0]
    bench.start("serve")
    bench.post("/jobs/0/cancel/")
    times: list[float] = []
    saves: list[float] = []
    until = time.monotonic() + seconds
    paths = [f"/{slug}/{n}/" for n in STATIONS if n != "takes"]
    paths += [f"/{slug}/picture/{n}/" for n in ("align", "level", "clean", "eq", "dynamics", "bus")]

    def read(number: int) -> None:
        rng = random.Random(seed * 100 + number)
        while time.monotonic() < until:
            path = rng.choice(paths)
            try:
                if rng.random() < 0.2:
                    answer = bench.get(
                        f"/{slug}/pcm/", start=48000 * rng.randrange(6), frames=48000
                    )
                else:
                    answer = bench.get(path, mic=rng.choice(("kick_in", "snare_top")), bars="1-4")
            except OSError as error:
                row.fail(f"{path}: {error}")
                continue
            times.append(answer.seconds)
            if answer.status != 200:
                row.fail(f"{path} answers {answer.status}")

    def save() -> None:
        base = 1
        while time.monotonic() < until:
            patch = {"bed_db": -float(len(saves) % 40)}
            done = bench.post(f"/{slug}/keep/", {"patch": patch, "base": base})
            if done.status == 200:
                base = done.json["revision"]
                saves.append(done.seconds)
            time.sleep(0.5)

    try:
        sides = [threading.Thread(target=read, args=(n,)) for n in range(READERS)]
        sides.append(threading.Thread(target=save))
        for one in sides:
            one.start()
        for one in sides:
            one.join()
    finally:
        bench.stop()
    row.tried = len(times) + len(saves)
    ordered = sorted(times)
    save_ms = 1000 * statistics.median(saves)
    row.remark = (
        f"reads: median {1000 * statistics.median(times):.0f} ms, 95th percentile "
        f"{1000 * ordered[int(0.95 * len(ordered))]:.0f} ms; saves: median {save_ms:.0f} ms"
    )
    if save_ms > SAVE_MS:
        row.fail(f"a save takes {save_ms:.0f} ms, {SAVE_MS:.0f} are allowed")
    return row
