"""Processes that are killed at any moment, disks that are full, bits that flip, two who save."""

import json
import random
import shutil
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from tests.making import write_small_takes
from tests.torture.rows import Row
from tests.torture.running import Bench

STUCK_S = 30.0
ORDER = ("import", "save", "first-pass", "print")


def _page_is_fine(bench: Bench, slug: str, row: Row) -> None:
    for path in ("/", f"/{slug}/edit/", f"/{slug}/log/"):
        if (status := bench.get(path).status) != 200:
            row.fail(f"{path} answers {status}")


def run_kills(seed: int, folder: Path, kills: int) -> Row:
    """Server, worker or both killed in the midst of an import, saves, a first pass or a print, and
    started again. Nothing acknowledged may be lost, no job may hang, nothing may be left over."""
    row = Row("kills in import, save, first pass and print")
    rng = random.Random(seed)
    bench = Bench(folder / "kills")
    slug = bench.make_songs("Kill Floor")[0]
    saved: dict[int, float] = {}
    jobs: list[int] = []
    bench.start("serve", "worker")
    try:
        for number in range(kills):
            row.tried += 1
            work = ORDER[number % len(ORDER)]
            victims = rng.choice((("serve",), ("worker",), ("serve", "worker")))
            killed = threading.Event()

            def kill(victims: tuple[str, ...] = victims, killed: threading.Event = killed) -> None:
                bench.kill(*victims)
                killed.set()

            killing = threading.Timer(rng.uniform(0.02, 1.5), kill)
            killing.start()
            _work(bench, slug, work, number, jobs, saved, killed)
            killing.join()
            bench.start(*victims)
            _page_is_fine(bench, slug, row)
        for job in jobs:
            state = bench.until_over(job, STUCK_S)
            if state["state"] not in ("done", "failed", "cancelled"):
                row.fail(f"job {job} is {state['state']}: {state['message']}")
        _all_saved(bench, slug, saved, row)
    finally:
        bench.stop()
    _nothing_left(bench, row)
    row.remark = f"{len(saved)} saves acknowledged, {len(jobs)} jobs"
    if count := bench.tracebacks():
        row.fail(f"{count} tracebacks in {bench.log}")
    return row


def _work(
    bench: Bench,
    slug: str,
    work: str,
    number: int,
    jobs: list[int],
    saved: dict[int, float],
    killed: threading.Event,
) -> None:
    """Begin some work and save beside it until somebody is killed."""
    try:
        if work == "import":
            source = bench.data.parent / "mics"
            if not source.exists():
                write_small_takes(source)
            token = f"kill-{number:04d}-0123456789"
            for path in sorted(source.glob("*.wav")):
                bench.upload(token, path)
            files = [
                {"name": p.name, "mic": m}
                for p, m in zip(sorted(source.glob("*.wav")), ("kick_in", "snare_top"), strict=True)
            ]
            made = bench.post(f"/staging/{token}/make/", {"name": "Killed", "files": files})
            jobs.append(made.json["job"])
        elif work == "first-pass":
            jobs.append(bench.post(f"/{slug}/first-pass/start/", {}).json["job"])
        elif work == "print":
            jobs.append(bench.post(f"/{slug}/print/start/", {}).json["job"])
        base, turn = _current(bench, slug), 0
        while not killed.wait(0.05):
            turn += 1
            value = round(-12 + (number * 7 + turn) % 240 / 10, 1)
            done = bench.post(f"/{slug}/keep/", {"patch": {"bed_db": value}, "base": base})
            if done.status == 200:
                base = done.json["revision"]
                saved[base] = value
            else:
                base = _current(bench, slug)
    except (OSError, KeyError, ValueError):
        return  # the server is gone


def _current(bench: Bench, slug: str) -> int:
    text = bench.get(f"/{slug}/print/").body.decode()
    return int(text.partition('id="revision">')[2].partition("<")[0])


def _all_saved(bench: Bench, slug: str, saved: dict[int, float], row: Row) -> None:
    """Every acknowledged save stands in the log with what it set."""
    script = (
        "import json; from arkund.songs.models import Revision; "
        f"print(json.dumps({{r.number: r.sheet.bed_db for r in Revision.objects.filter("
        f"song__slug='{slug}')}}))"
    )
    found = bench.python(script)
    stands = {int(k): v for k, v in json.loads(found.stdout).items()}
    for number, value in saved.items():
        if stands.get(number) != value:
            row.fail(
                f"revision {number} was acknowledged with {value}, stands as {stands.get(number)}"
            )


def _nothing_left(bench: Bench, row: Row) -> None:
    """After a sweep without patience, nothing is there to which nothing refers."""
    script = (
        "from arkund.songs.sweeping import sweep, unreferenced; "
        "sweep(0.0, 0.0); print(*unreferenced(), sep='\\n')"
    )
    done = bench.python(script)
    if done.returncode:
        row.fail(f"the sweep failed: {done.stderr[-200:]}")
    left = [
        *bench.data.rglob("*.part"),
        *bench.data.glob("staging/*"),
        *bench.data.glob("prints/*/*.work"),
        *map(Path, done.stdout.split()),
    ]
    for path in left:
        row.fail(f"left over: {path.relative_to(bench.data)}")


@contextmanager
def small_disk(folder: Path, megabytes: int) -> Iterator[bool]:
    """A file system of its own; whether it could be had."""
    folder.mkdir(parents=True, exist_ok=True)
    command = ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", "tmpfs", str(folder)]
    done = subprocess.run(command, capture_output=True, check=False)
    try:
        yield done.returncode == 0
    finally:
        if done.returncode == 0:
            subprocess.run(["umount", "-l", str(folder)], check=False)


def run_full_disk(seed: int, folder: Path, megabytes: int = 48) -> Row:
    """Every kind of writing on a full disk, and again when there is room."""
    row = Row("writing on a full disk")
    with small_disk(folder / "full", megabytes) as there:
        if not there:
            row.remark = "not tried: no file system could be mounted here"
            return row
        bench = Bench(folder / "full" / "data")
        bench.log = folder / "full-disk.log"
        slug = bench.make_songs("Full Moon")[0]
        bench.start("serve", "worker")
        try:
            _fill_and_write(bench, slug, row)
        finally:
            bench.stop()
        _nothing_left(bench, row)
        if count := bench.tracebacks():
            row.fail(f"{count} tracebacks in {bench.log}")
    return row


def _fill_and_write(bench: Bench, slug: str, row: Row) -> None:
    bench.post("/jobs/0/cancel/")  # a page's token, while there is room
    filler = bench.data / "filler"
    source = bench.data.parent / "mics"
    write_small_takes(source)
    sound = next(source.glob("*.wav"))
    with filler.open("wb", buffering=0) as stream, suppress(OSError):
        while stream.write(bytes(4096)):
            pass

    def tries() -> list[tuple[str, int, bytes]]:
        base = _current(bench, slug)
        asked = [
            ("keep", bench.post(f"/{slug}/keep/", {"patch": {"bed_db": -6.5}, "base": base})),
            ("undo", bench.post(f"/{slug}/undo/")),
            ("school", bench.post(f"/{slug}/school/", {"name": "Open"})),
            ("print", bench.post(f"/{slug}/print/start/", {})),
            ("first pass", bench.post(f"/{slug}/first-pass/start/", {})),
            ("upload", bench.upload("full-disk-0123456789", sound)),
        ]
        return [(name, a.status, a.body) for name, a in asked]

    refused = 0
    for name, status, said in tries():
        row.tried += 1
        if status == 500:
            row.fail(f"{name} answers 500: {said[:100]!r}")
        if status == 507 or b"disk" in said:
            refused += 1
            if b"pace" not in said:
                row.fail(f"{name}: {said[:100]!r} does not say what to do")
    if bench.get(f"/{slug}/edit/").status != 200:
        row.fail("the song does not open on a full disk")
    render = bench.command("log", slug, "--json")
    if render.returncode or "Traceback" in render.stderr:
        row.fail(f"arkund log: {render.stderr[-200:]}")
    if bench.parts["worker"].poll() is not None:
        row.fail("the worker died")
    filler.unlink()
    base = _current(bench, slug)
    again = bench.post(f"/{slug}/keep/", {"patch": {"bed_db": -7.5}, "base": base})
    row.tried += 1
    if again.status != 200:
        row.fail(f"with room again, a save answers {again.status}: {again.body[:100]!r}")
    row.remark = f"{refused} refused in a sentence"


def run_flipped_bits(seed: int, folder: Path, count: int) -> Row:
    """One bit of one stored file flipped; a check must find it or the file must be one that is
    made again, and no print may be made of a damaged sound."""
    row = Row("a flipped bit in a stored file")
    rng = random.Random(seed)
    bench = Bench(folder / "bits")
    slug = bench.make_songs("Bit Rot")[0]
    bench.command("print", slug, "-o", str(folder / "whole"))
    bench.command("findings", slug)
    kinds = (
        "media/audio/*/*",
        "media/hits/*",
        "media/analysis/*",
        "media/overviews/*",
        "cache/*/*",
        "memo/*/*",
    )
    found = refused = 0
    for number in range(count):
        pattern = kinds[number % len(kinds)]
        files = sorted(p for p in bench.data.glob(pattern) if p.is_file())
        if not files:
            continue
        path = rng.choice(files)
        whole = path.read_bytes()
        data = bytearray(whole)
        data[rng.randrange(len(data))] ^= 1 << rng.randrange(8)
        path.write_bytes(data)
        row.tried += 1
        checked = bench.command("check", "--json")
        if "Traceback" in checked.stderr:
            row.fail(f"{pattern}: a check ends in {checked.stderr[-200:]}")
        elif not json.loads(checked.stdout or "{}").get("lines"):
            row.fail(f"{path.relative_to(bench.data)}: a check finds nothing")
        else:
            found += 1
        if number % len(kinds) == 0:
            made = bench.command(
                "print", slug, "-o", str(folder / "print"), "--stems", "mix", "--json"
            )
            printed = (folder / "print").exists() and any((folder / "print").glob("*.wav"))
            if "Traceback" in made.stderr or (made.returncode == 0 and _sounds(bench, path)):
                row.fail(f"{path.name[:12]}: printed all the same: {made.stderr[-100:]}")
            refused += made.returncode == 1 and not printed
            shutil.rmtree(folder / "print", ignore_errors=True)
        path.write_bytes(whole)
    row.remark = f"{found} found by a check, {refused} prints refused"
    return row


def _sounds(bench: Bench, path: Path) -> bool:
    """Whether a stored sound is of the take that sounds: the first, where there is no comp."""
    shown = bench.command("show", "bit-rot", "--json")
    take = json.loads(shown.stdout)["takes"][0]
    script = (
        "from arkund.songs.models import Song; "
        "s=Song.objects.get(slug='bit-rot').current.sheet; "
        f"print(*(x.sha256 for t in s.takes if t.number=={take} for x in t.sources.values()))"
    )
    done = bench.python(script)
    return path.stem in done.stdout


def run_two_sides(seed: int, folder: Path, saves: int) -> Row:
    """Two who save at once: what is acknowledged stands, what is refused says why."""
    row = Row("two sides saving at once")
    bench = Bench(folder / "sides")
    slug = bench.make_songs("Two Minds")[0]
    bench.start("serve")
    bench.post("/jobs/0/cancel/")
    saved: dict[int, float] = {}
    refused = 0

    def side(number: int) -> None:
        nonlocal refused
        for turn in range(saves // 2):
            row.tried += 1
            value = round(number + turn / 1000, 3)
            base = _current(bench, slug)
            done = bench.post(f"/{slug}/keep/", {"patch": {"bed_db": -value}, "base": base})
            if done.status == 200:
                saved[done.json["revision"]] = -value
            elif done.status == 409 and b"changed" in done.body:
                refused += 1
            else:
                row.fail(f"{done.status}: {done.body[:100]!r}")

    try:
        sides = [threading.Thread(target=side, args=(n,)) for n in (1, 2)]
        for one in sides:
            one.start()
        for one in sides:
            one.join()
    finally:
        bench.stop()
    _all_saved(bench, slug, saved, row)
    row.remark = f"{len(saved)} saved, {refused} refused with what changed"
    if len(saved) + refused != row.tried:
        row.fail("a save got no answer")
    return row


def run_redis(seed: int, folder: Path, prints: int, gone_s: float = 10.0) -> Row:
    """Two workers on one Redis: every job once, a killed worker's taken up, Redis away for a while."""
    row = Row("two workers on Redis")
    if shutil.which("redis-server") is None:
        row.remark = "not tried: redis-server is not installed"
        return row
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = probe.getsockname()[1]

    def redis() -> "subprocess.Popen[bytes]":
        return subprocess.Popen(
            [
                "redis-server",
                "--port",
                str(port),
                "--bind",
                "127.0.0.1",
                "--save",
                "",
                "--appendonly",
                "no",
                "--dir",
                str(folder),
            ],
            stdout=subprocess.DEVNULL,
        )

    store = redis()
    bench = Bench(folder / "redis", ARKUND_REDIS_URL=f"redis://127.0.0.1:{port}/0")
    slugs = bench.make_songs(*(f"Red {n}" for n in range(4)))
    bench.start("serve", "worker-1", "worker-2")
    try:
        jobs = [bench.post(f"/{slugs[n % 4]}/print/start/", {}).json["job"] for n in range(prints)]
        time.sleep(0.5)
        bench.kill("worker-1")
        bench.start("worker-3")
        store.kill()
        store.wait()
        away = time.monotonic()
        jobs += [bench.post(f"/{slugs[n % 4]}/print/start/", {}).json["job"] for n in range(4)]
        time.sleep(max(gone_s - (time.monotonic() - away), 0))
        store = redis()
        for job in jobs:
            row.tried += 1
            state = bench.until_over(job, STUCK_S)
            if state["state"] != "done":
                row.fail(f"job {job} is {state['state']}: {state['message']}")
        row.remark = _attempts(bench, row)
        if bench.parts["worker-2"].poll() is not None:
            row.fail("a worker did not survive that Redis was gone")
    finally:
        bench.stop()
        store.kill()
        store.wait()
    return row


def _attempts(bench: Bench, row: Row) -> str:
    """How often each job was begun: once, but for the killed worker's."""
    script = (
        "from arkund.songs.models import Job; "
        "print(*Job.objects.values_list('attempts', flat=True))"
    )
    done = bench.python(script)
    begun = sorted(map(int, done.stdout.split()))
    if begun and (begun[-1] > 2 or sum(n > 1 for n in begun) > 1):
        row.fail(f"jobs were begun {begun} times")
    again = sum(n > 1 for n in begun)
    return f"{begun.count(1)} jobs begun once, {again} of the killed worker's taken up"


def scratch() -> "tempfile.TemporaryDirectory[str]":
    """A folder for all of it."""
    return tempfile.TemporaryDirectory(prefix="arkund-torture-")
