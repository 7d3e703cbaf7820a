"""“Slag Run”: fast double kick, 13 mics, 36 bars at 176 BPM, 44.1 kHz."""

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Cymbal, Drum, Kit
from arkund.core.simulate.preset import Plants, Preset, above
from arkund.core.simulate.room import Microphone, Room

# Where the drums stand, in metres as in `kit`.
SNARE, KICK = (-0.12, 0.4, 0.6), (0.02, 0.58, 0.28)
TOMS = {
    "tom_1": (-0.24, 0.8, 0.8),
    "tom_2": (0.08, 0.86, 0.8),
    "tom_3": (0.4, 0.76, 0.74),
    "tom_4": (0.56, 0.4, 0.55),
}
HAT, RIDE, CRASH = (-0.55, 0.55, 0.9), (0.75, 0.75, 1.0), (-0.4, 1.1, 1.2)


def twin() -> Preset:
    """“Slag Run”: fast double kick."""
    mics = _mics()
    feel = Feel(2.0, 1.8, {"snare": -1.0, "hat": 1.0, "kick": 0.0})
    files = {
        m.name: f"{n:02d}_{m.name.title().replace('_', '')}_T1.wav" for n, m in enumerate(mics, 1)
    }
    plants = Plants(
        wild="tom_2",
        apart=(18, 21),
        hum={"room_r": (60.0, -55.0)},
        dc={"hat": -0.008},
        clipped=("overhead_r",),
    )
    return Preset(
        "Slag Run",
        176.0,
        44100,
        _kit(),
        mics,
        Room((5.0, 6.5, 3.1), (2.4, 2.0, 0.0)),
        _chart(),
        feel,
        files,
        plants,
    )


def _chart() -> tuple[ChartSection, ...]:
    """What is played, part by part."""
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
    fill = {
        "snare": "........xxxx....",
        "tom_1": "............x...",
        "tom_2": ".............x..",
        "tom_3": "..............x.",
        "tom_4": "...............X",
    }
    fill_b = {
        "tom_1": "........x.x.....",
        "tom_2": "...........x....",
        "tom_3": "............x.x.",
        "tom_4": "...............x",
    }
    return (
        ChartSection("verse", 8, verse, fill, crash_one),
        ChartSection("chorus", 8, gallop, fill_b, crash_one),
        ChartSection("half", 8, half, fill, crash_one),
        ChartSection("chorus", 8, gallop, fill_b, crash_one),
        ChartSection("out", 4, half, fill, crash_one),
    )


def _kit() -> Kit:
    return Kit(
        (
            Drum("kick", KICK, 0.28, 63.0, 0.22, 0.7),
            Drum("snare", SNARE, 0.18, 214.0, 0.2, 0.95, ((436.0, 0.6, 0.35),)),
            Drum("tom_1", TOMS["tom_1"], 0.12, 166.0, 0.55, 0.9),
            Drum("tom_2", TOMS["tom_2"], 0.14, 127.0, 0.6, 0.95),
            Drum("tom_3", TOMS["tom_3"], 0.16, 98.0, 0.7, 1.0),
            Drum("tom_4", TOMS["tom_4"], 0.2, 72.0, 0.85, 1.1),
        ),
        (
            Cymbal("hat", HAT, 480.0, 0.13, 0.7),
            Cymbal("ride", RIDE, 350.0, 1.6, 0.5),
            Cymbal("crash_1", CRASH, 280.0, 2.2, 1.4, 140),
        ),
    )


def _mics() -> tuple[Microphone, ...]:
    return (
        Microphone("kick_in", (0.0, 0.7, 0.28), KICK, 0.5, 30, 15000, 7.0, -7.0, inside="kick"),
        above(SNARE, "snare_top", -0.05, 0.15, 0.06, presence_db=3.0, low_hz=50, peak_dbfs=-8.0),
        above(SNARE, "snare_bottom", 0.04, -0.08, -0.26, high_hz=18000, peak_dbfs=-13.0),
        above(HAT, "hat", -0.08, 0.12, 0.15, low_hz=90, high_hz=19000, peak_dbfs=-14.0),
        above(RIDE, "ride", 0.06, 0.12, 0.14, low_hz=70, high_hz=19000, peak_dbfs=-14.0),
        above(TOMS["tom_1"], "tom_1", 0.02, 0.12, 0.07, presence_db=2.0, peak_dbfs=-10.0),
        above(TOMS["tom_2"], "tom_2", 0.02, 0.13, 0.07, presence_db=2.0, peak_dbfs=-11.0),
        above(TOMS["tom_3"], "tom_3", 0.03, 0.15, 0.07, presence_db=2.0, peak_dbfs=-10.0),
        above(TOMS["tom_4"], "tom_4", 0.13, 0.12, 0.08, presence_db=2.0, peak_dbfs=-9.0),
        Microphone("overhead_l", (-0.5, 0.7, 1.8), (-0.2, 0.65, 0.6), 0.5, 40, 19000, 2.0, -3.0),
        Microphone("overhead_r", (0.6, 0.7, 1.8), (0.3, 0.65, 0.6), 0.5, 40, 19000, 2.0, -3.0),
        Microphone("room_l", (-1.4, 2.9, 1.4), (0, 0.6, 0.6), 0.5, 30, 16000, 0.0, -11.0, True),
        Microphone("room_r", (1.5, 2.9, 1.4), (0, 0.6, 0.6), 0.5, 30, 16000, 0.0, -11.0, True),
    )
