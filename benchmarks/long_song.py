"""A long song at full size: five minutes, 16 mics, three takes, over 4,000 hits a take.

`python -m benchmarks.long_song DIR` writes the recording to ``DIR/recording``, makes the song in the data folder
``DIR/data`` (both kept for the next run), and prints what its pages and its first analysis take.
"""

import os
import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np

BARS_TIMES = 6
NAME = "Long Haul"
SLUG = "long-haul"
RUNS = 5


def preset() -> "object":
    """The fast preset six times as long, with three more mics and three takes."""
    from arkund.core.simulate.preset import TakePlan
    from arkund.core.simulate.room import Microphone
    from arkund.core.simulate.twin import twin

    base = twin()
    kick = base.kit.drums[0].position
    more = (
        Microphone("kick_out", (0.0, 1.05, 0.3), kick, 0.5, 30, 12000, 3.0, -8.0),
        Microphone("room", (0.0, 3.4, 1.2), (0, 0.6, 0.6), 0.5, 30, 16000, 0.0, -11.0, True),
        Microphone("crush", (0.4, 1.8, 0.5), (0, 0.6, 0.6), 0.5, 60, 9000, 0.0, -9.0),
    )
    mics = (*base.mics, *more)
    return replace(
        base,
        chart=base.chart * BARS_TIMES,
        mics=mics,
        files={m.name: f"{m.name}.wav" for m in mics},
        takes=tuple(TakePlan(n) for n in (1, 2, 3)),
    )


def record(folder: Path) -> None:
    """Simulate the takes, one at a time."""
    from arkund.core.simulate.presets import PRESETS
    from arkund.core.simulate.session import write_recording

    PRESETS["long"] = preset  # type: ignore[assignment]
    write_recording("long", 771, folder)


def _timed(run: Callable[[], object], runs: int = RUNS) -> float:
    times = []
    for _ in range(runs):
        began = time.perf_counter()
        run()
        times.append(time.perf_counter() - began)
    return float(np.median(times))


def main() -> None:
    home = Path(sys.argv[1])
    recording = home / "recording"
    if not (recording / "truth.json").exists():
        began = time.perf_counter()
        record(recording)
        print(f"simulated in {time.perf_counter() - began:.0f} s", flush=True)
    os.environ["ARKUND_DATA"] = str(home / "data")
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "arkund.studio.settings")
    import django

    django.setup()
    from django.core.management import call_command
    from django.test import Client

    from arkund.songs import facts, importing, incoming, revisions, timing
    from arkund.songs.models import Song

    call_command("migrate", verbosity=0)
    if not Song.objects.filter(slug=SLUG).exists():
        began = time.perf_counter()
        files = incoming.guess_incoming(incoming.files_of(recording))
        song, _ = importing.import_song(files, importing.Wishes(NAME, 176.0))
        took = time.perf_counter() - began
        sheet = timing.sheet_of(song)
        seconds = sum(sheet.frames / sheet.rate for _ in sheet.takes)
        print(f"imported and analysed in {took:.0f} s, {seconds / took:.0f} times real time")
        rule = {"start_bar": 1, "bars": 400, "division": "1/16", "school": "feel", "window_ms": 4}
        revisions.keep(song.pk, 1, {"timing.rules": [rule]})
    song = Song.objects.get(slug=SLUG)
    sheet = timing.sheet_of(song)
    print(
        f"{sheet.frames / sheet.rate:.0f} s, {len(sheet.mics)} mics, {len(sheet.takes)} takes, "
        f"{len(facts.hits_of(sheet))} hits, {len(timing.edits_of(sheet).moves)} events"
    )
    client = Client(headers={"host": "127.0.0.1"})

    def get(path: str) -> None:
        answer = client.get(f"/{SLUG}/{path}")
        assert answer.status_code == 200, (path, answer.status_code)

    query = "?mic=snare_top&bars=60-63"
    stations = (
        "load-in",
        "edit",
        "takes",
        "align",
        "level",
        "clean",
        "eq",
        "dynamics",
        "bus",
        "print",
        "log",
    )
    for station in stations:
        get(f"{station}/{query}")
        print(f"page {station:10s} {_timed(lambda s=station: get(f'{s}/{query}')) * 1000:6.0f} ms")  # type: ignore[misc]
    for station in ("edit", "takes"):
        began = time.perf_counter()
        get(f"picture/{station}/{query}")
        first = time.perf_counter() - began
        again = _timed(lambda s=station: get(f"picture/{s}/{query}"))  # type: ignore[misc]
        print(f"picture {station:7s} {again * 1000:6.0f} ms, the first time {first * 1000:.0f} ms")
    began = time.perf_counter()
    patch = {"timing.rules.0.strength": 0.8 + np.random.default_rng().random() / 10}
    timing.sheet_of(song, patch=patch)
    print(f"moves reckoned anew {time.perf_counter() - began:6.1f} s")


if __name__ == "__main__":
    main()
