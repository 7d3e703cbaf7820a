"""The simulated sessions: kit, mics, chart, feel and planted faults of each preset.

``copper`` is the demo song: 13 mics, 32 bars at 104 BPM with ghosts and tom fills.
``twin`` is fast double kick: another kit, 14 mics, 176 BPM, 44.1 kHz.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Cymbal, Drum, Kit, Position
from arkund.core.simulate.room import Microphone, Room


@dataclass(frozen=True)
class Preset:
    """All that a session needs but its seed. ``faults`` are plants by their name in truth.json."""

    title: str
    bpm: float
    rate: int
    kit: Kit
    mics: tuple[Microphone, ...]
    room: Room
    chart: tuple[ChartSection, ...]
    feel: Feel
    files: dict[str, str]
    wild_tom: str | None = None
    lead_in_s: float = 0.6


_SNARE: Position = (-0.15, 0.38, 0.62)


def _above(
    piece: Position, name: str, dx: float, dy: float, dz: float, **more: object
) -> Microphone:
    """A mic a little above and beside a piece, looking at it."""
    x, y, z = piece
    return Microphone(name, (x + dx, y + dy, z + dz), piece, **more)  # type: ignore[arg-type]


def _copper() -> Preset:
    snare, kick = _SNARE, (0.05, 0.55, 0.3)
    toms = {"tom_1": (-0.2, 0.78, 0.78), "tom_2": (0.17, 0.8, 0.76), "tom_3": (0.5, 0.4, 0.58)}
    hat, ride, crash = (-0.58, 0.5, 0.86), (0.66, 0.85, 1.1), (-0.45, 1.05, 1.15)
    kit = Kit(
        (
            Drum("kick", kick, 0.28, 57.0, 0.38, 0.7),
            Drum("snare", snare, 0.18, 188.0, 0.22, 0.85, ((402.0, 0.85, 0.42),)),
            Drum("tom_1", toms["tom_1"], 0.13, 141.0, 0.75, 0.9),
            Drum("tom_2", toms["tom_2"], 0.15, 108.0, 0.85, 0.95),
            Drum("tom_3", toms["tom_3"], 0.2, 76.0, 1.05, 1.1),
        ),
        (
            Cymbal("hat", hat, 420.0, 0.16, 0.75),
            Cymbal("ride", ride, 310.0, 2.2, 0.5),
            Cymbal("crash_1", crash, 260.0, 2.6, 1.5, 140),
        ),
    )
    mics = (
        Microphone("kick_in", (0.05, 0.72, 0.3), kick, 0.5, 30, 15000, 4.0, -8.0, inside="kick"),
        Microphone("kick_out", (0.07, 1.12, 0.32), (0.05, 0.95, 0.3), 0.5, 25, 13000, 0.0, -9.0),
        _above(snare, "snare_top", -0.06, 0.14, 0.05, presence_db=4.0, low_hz=45, peak_dbfs=-9.0),
        _above(snare, "snare_bottom", 0.05, -0.1, -0.24, high_hz=18000, peak_dbfs=-12.0),
        _above(hat, "hat", -0.1, 0.1, 0.14, low_hz=80, high_hz=19000, peak_dbfs=-14.0),
        _above(toms["tom_1"], "tom_1", 0.03, 0.13, 0.06, presence_db=3.0, peak_dbfs=-11.0),
        _above(toms["tom_2"], "tom_2", 0.04, 0.14, 0.06, presence_db=3.0, peak_dbfs=-12.0),
        _above(toms["tom_3"], "tom_3", 0.14, 0.1, 0.07, presence_db=3.0, peak_dbfs=-10.0),
        Microphone("overhead_l", (-0.55, 0.62, 1.75), (-0.2, 0.6, 0.6), 0.5, 40, 19000, 2.0, -2.5),
        Microphone("overhead_r", (0.62, 0.6, 1.72), (0.3, 0.6, 0.6), 0.5, 40, 19000, 2.0, -2.8),
        Microphone("room_l", (-1.6, 3.2, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -10.0, True),
        Microphone("room_r", (1.7, 3.15, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -10.0, True),
        Microphone("crush", (0.35, 1.9, 0.4), (0, 0.6, 0.6), 0.0, 90, 9000, 5.0, -6.0),
    )
    verse = {
        "kick": "X......xX.x.....",
        "snare": "....X..g.g..X..g",
        "hat": "x.x.x.x.x.x.x.x.",
    }
    verse_b = {
        "kick": "X.....x.X.....x.",
        "snare": "....X....g.gX...",
        "hat": "x.x.x.x.x.x.x.o.",
    }
    chorus = {
        "kick": "X..x..X.X.x...x.",
        "snare": "....X.......X..g",
        "hat": "o...o...o...o...",
    }
    ridden = {
        "kick": "X..x..X.X.x...x.",
        "snare": "....X.......X...",
        "ride": "x.x.x.x.x.x.x.x.",
    }
    crash_one = {"crash_1": "X..............."}
    fill_down = {"snare": "........xx......", "tom_1": "..........xx....",
                 "tom_2": "............xX..", "tom_3": "..............xX"}  # fmt: skip
    fill_short = {"snare": "........X.......", "tom_1": "............X.x.",
                  "tom_3": "..............X."}  # fmt: skip
    fill_low = {"snare": "........x.x.....", "tom_2": "............x...",
                "tom_3": ".............xXX"}  # fmt: skip
    chart = (
        ChartSection("intro", 2, {"hat": "x.x.x.x.x.x.x.x.", "kick": "X.......X......."}),
        ChartSection("verse", 6, verse, fill_short, crash_one),
        ChartSection("chorus", 8, chorus, fill_down, crash_one),
        ChartSection("verse", 6, verse_b, fill_low),
        ChartSection("chorus", 8, ridden, fill_down, crash_one),
        ChartSection("out", 2, {"kick": "X.......X.......", "snare": "....X.......X...",
                                "hat": "x.x.x.x.x.x.x.x."}, None, crash_one),
    )  # fmt: skip
    feel = Feel(3.0, 2.2, {"snare": 4.0, "hat": -2.0, "kick": 0.5})
    files = {
        "kick_in": "01 Kick In.wav", "kick_out": "02 Kick Out.wav",
        "snare_top": "03 Snare Top.wav", "snare_bottom": "04 Snare Btm.wav",
        "hat": "05 Hat.wav", "tom_1": "06 Rack 1.wav", "tom_2": "07 Rack 2.wav",
        "tom_3": "08 Floor.wav", "overhead_l": "09 OH L.wav", "overhead_r": "10 OH R.wav",
        "room_l": "11 Room L.wav", "room_r": "12 Room R.wav", "crush": "13 Talkback.wav",
    }  # fmt: skip
    return Preset("Copper Weather", 104.0, 48000, kit, mics, Room(), chart, feel, files, "tom_1")


def _twin() -> Preset:
    snare, kick = (-0.12, 0.4, 0.6), (0.02, 0.58, 0.28)
    toms = {"tom_1": (-0.24, 0.8, 0.8), "tom_2": (0.08, 0.86, 0.8), "tom_3": (0.4, 0.76, 0.74),
            "tom_4": (0.56, 0.4, 0.55)}  # fmt: skip
    hat, ride, crash = (-0.55, 0.55, 0.9), (0.75, 0.75, 1.0), (-0.4, 1.1, 1.2)
    kit = Kit(
        (
            Drum("kick", kick, 0.28, 63.0, 0.22, 0.7),
            Drum("snare", snare, 0.18, 214.0, 0.2, 0.95, ((436.0, 0.6, 0.35),)),
            Drum("tom_1", toms["tom_1"], 0.12, 166.0, 0.55, 0.9),
            Drum("tom_2", toms["tom_2"], 0.14, 127.0, 0.6, 0.95),
            Drum("tom_3", toms["tom_3"], 0.16, 98.0, 0.7, 1.0),
            Drum("tom_4", toms["tom_4"], 0.2, 72.0, 0.85, 1.1),
        ),
        (
            Cymbal("hat", hat, 480.0, 0.13, 0.7),
            Cymbal("ride", ride, 350.0, 1.6, 0.5),
            Cymbal("crash_1", crash, 280.0, 2.2, 1.4, 140),
        ),
    )
    mics = (
        Microphone("kick_in", (0.0, 0.7, 0.28), kick, 0.5, 30, 15000, 7.0, -7.0, inside="kick"),
        _above(snare, "snare_top", -0.05, 0.15, 0.06, presence_db=3.0, low_hz=50, peak_dbfs=-8.0),
        _above(snare, "snare_bottom", 0.04, -0.08, -0.26, high_hz=18000, peak_dbfs=-13.0),
        _above(hat, "hat", -0.08, 0.12, 0.15, low_hz=90, high_hz=19000, peak_dbfs=-14.0),
        _above(ride, "ride", 0.06, 0.12, 0.14, low_hz=70, high_hz=19000, peak_dbfs=-14.0),
        _above(toms["tom_1"], "tom_1", 0.02, 0.12, 0.07, presence_db=2.0, peak_dbfs=-10.0),
        _above(toms["tom_2"], "tom_2", 0.02, 0.13, 0.07, presence_db=2.0, peak_dbfs=-11.0),
        _above(toms["tom_3"], "tom_3", 0.03, 0.15, 0.07, presence_db=2.0, peak_dbfs=-10.0),
        _above(toms["tom_4"], "tom_4", 0.13, 0.12, 0.08, presence_db=2.0, peak_dbfs=-9.0),
        Microphone("overhead_l", (-0.5, 0.7, 1.8), (-0.2, 0.65, 0.6), 0.5, 40, 19000, 2.0, -3.0),
        Microphone("overhead_r", (0.6, 0.7, 1.8), (0.3, 0.65, 0.6), 0.5, 40, 19000, 2.0, -3.0),
        Microphone("room_l", (-1.4, 2.9, 1.4), (0, 0.6, 0.6), 0.5, 30, 16000, 0.0, -11.0, True),
        Microphone("room_r", (1.5, 2.9, 1.4), (0, 0.6, 0.6), 0.5, 30, 16000, 0.0, -11.0, True),
    )
    verse = {
        "kick": "x.xxx.xxx.xxx.xx",
        "snare": "....X.......X...",
        "hat": "x...x...x...x...",
    }
    gallop = {
        "kick": "xxxxxxxxxxxxxxxx",
        "snare": "....X.......X...",
        "ride": "x.x.x.x.x.x.x.x.",
    }
    half = {
        "kick": "X.....xxX.....xx",
        "snare": "........X.......",
        "hat": "o...o...o...o...",
    }
    crash_one = {"crash_1": "X..............."}
    fill = {"snare": "........xxxx....", "tom_1": "............x...", "tom_2": ".............x..",
            "tom_3": "..............x.", "tom_4": "...............X"}  # fmt: skip
    fill_b = {"tom_1": "........x.x.....", "tom_2": "...........x....",
              "tom_3": "............x.x.", "tom_4": "...............x"}  # fmt: skip
    chart = (
        ChartSection("verse", 8, verse, fill, crash_one),
        ChartSection("chorus", 8, gallop, fill_b, crash_one),
        ChartSection("half", 8, half, fill, crash_one),
        ChartSection("chorus", 8, gallop, fill_b, crash_one),
        ChartSection("out", 4, half, fill, crash_one),
    )
    feel = Feel(2.0, 1.8, {"snare": -1.0, "hat": 1.0, "kick": 0.0})
    files = {m.name: f"{n:02d}_{m.name.title().replace('_', '')}_T1.wav"
             for n, m in enumerate(mics, 1)}  # fmt: skip
    return Preset("Slag Run", 176.0, 44100, kit, mics, Room((5.0, 6.5, 3.1), (2.4, 2.0, 0.0)),
                  chart, feel, files, "tom_2")  # fmt: skip


PRESETS: dict[str, Callable[[], Preset]] = {"copper": _copper, "twin": _twin}


def vary(preset: Preset, rng: np.random.Generator) -> Preset:
    """The same session set up by other hands: mics moved by up to 2 cm (20 cm for rooms), drums
    tuned and cymbals chosen a little differently, gains set elsewhere, tempo up to 1 % off."""
    mics = []
    for mic in preset.mics:
        reach = 0.2 if mic.name.startswith(("room", "crush")) else 0.02
        moved = tuple(float(v + rng.uniform(-reach, reach)) for v in mic.position)
        mics.append(
            replace(mic, position=moved, peak_dbfs=mic.peak_dbfs + float(rng.uniform(-1, 0.5)))  # type: ignore[arg-type]
        )
    drums = tuple(
        replace(d, fundamental_hz=d.fundamental_hz * float(rng.uniform(0.94, 1.06)),
                t60_s=d.t60_s * float(rng.uniform(0.85, 0.95)),
                rings=tuple((hz * float(rng.uniform(0.96, 1.04)), s, a) for hz, s, a in d.rings))
        for d in preset.kit.drums
    )  # fmt: skip
    cymbals = tuple(
        replace(c, lowest_hz=c.lowest_hz * float(rng.uniform(0.9, 1.1)),
                level=c.level * float(rng.uniform(0.85, 0.95)))
        for c in preset.kit.cymbals
    )  # fmt: skip
    return replace(preset, mics=tuple(mics), kit=Kit(drums, cymbals))
