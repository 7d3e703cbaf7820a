"""The media folder that two workers and the server share is away for a while, as a share on the network is."""

import random
import time
from pathlib import Path

from arkund.bench.stations.registry import STATIONS
from tests.torture.rows import Row
from tests.torture.running import Bench

STUCK_S = 60.0


def run_media_away(seed: int, folder: Path, seconds: float) -> Row:
    """Saves, pages, sound, imports and prints go on meanwhile: each is answered, in a sentence where it cannot be
    done; nothing acknowledged is lost, and when the folder is back all is as before, without a restart."""
    row = Row("media folder away")
    rng = random.Random(seed)
    bench = Bench(folder / "away")
    slug = bench.make_songs("Far Shelf")[0]
    media, hidden = bench.data / "media", bench.data / "media-away"
    bench.start("serve", "worker-1", "worker-2")
    saved: dict[int, float] = {}
    jobs: list[int] = []
    refused = 0
    try:
        bench.get(f"/{slug}/level/")
        media.rename(hidden)
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            row.tried += 1
            refused += _ask(bench, slug, rng, row, saved, jobs) >= 400
        # A process may have begun the folder anew meanwhile, as on a mount point that is empty.
        for path in sorted(media.rglob("*"), reverse=True) if media.exists() else ():
            if path.is_file():
                row.fail(
                    f"{path.relative_to(bench.data)} was written beside the folder that is away"
                )
        if media.exists():
            media.rename(bench.data / "media-empty")
        hidden.rename(media)
        for job in jobs:
            state = bench.until_over(job, STUCK_S)
            if state["state"] not in ("done", "failed"):
                row.fail(f"job {job} is {state['state']}: {state['message']}")
        _all_is_back(bench, slug, row)
    finally:
        bench.stop()
    if count := bench.tracebacks():
        row.fail(f"{count} tracebacks in {bench.log}")
    kept = f"{len(saved)} saves acknowledged, {len(jobs)} jobs"
    row.remark = f"{seconds:g} s, {refused} refused in a sentence, {kept}"
    return row


def _ask(
    bench: Bench, slug: str, rng: random.Random, row: Row, saved: dict[int, float], jobs: list[int]
) -> int:
    """Something at random; the status of its answer."""
    what = rng.choice(("page", "page", "picture", "sound", "save", "print", "pass"))
    if what == "page":
        path = f"/{slug}/{rng.choice([n for n in STATIONS if n != 'takes'])}/"
        answer = bench.get(path)
    elif what == "picture":
        path = f"/{slug}/picture/{rng.choice(('align', 'level', 'clean', 'eq', 'bus'))}/"
        answer = bench.get(path, mic="kick_in", bars="1-4")
    elif what == "sound":
        path = f"/{slug}/pcm/"
        answer = bench.get(path, start=48000 * rng.randrange(6), frames=48000)
    elif what == "save":
        path, value = f"/{slug}/keep/", round(rng.uniform(-40, 0), 1)
        answer = bench.post(path, {"patch": {"bed_db": value}, "base": max(saved, default=1)})
        if answer.status == 200:
            saved[answer.json["revision"]] = value
    else:
        path = f"/{slug}/{'print' if what == 'print' else 'first-pass'}/start/"
        answer = bench.post(path, {})
        if answer.status == 200:
            jobs.append(answer.json["job"])
    if answer.status >= 500:
        row.fail(f"{path} answers {answer.status} while it is away: {answer.body[:120]!r}")
    return answer.status


def _all_is_back(bench: Bench, slug: str, row: Row) -> None:
    """Pages, sound and a print, by the processes that lived through it."""
    for path in (f"/{slug}/level/", f"/{slug}/log/"):
        if (status := bench.get(path).status) != 200:
            row.fail(f"{path} answers {status} when it is back")
    sound = bench.get(f"/{slug}/pcm/", start=0, frames=48000)
    if sound.status != 200 or not any(sound.body):
        row.fail(f"sound answers {sound.status} when it is back, {len(sound.body)} bytes")
    job = bench.post(f"/{slug}/print/start/", {}).json["job"]
    state = bench.until_over(job, STUCK_S)
    if state["state"] != "done":
        row.fail(f"a print is {state['state']} when it is back: {state['message']}")
