"""“Copper Weather”, the demo song: 13 mics, 32 bars at 104 BPM, ghosts, tom fills, three takes."""

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Cymbal, Drum, Kit, Sympathy
from arkund.core.simulate.preset import Plants, Preset, TakePlan, above
from arkund.core.simulate.room import Microphone, Room

# Where the drums stand, in metres as in `kit`.
SNARE, KICK = (-0.15, 0.38, 0.62), (0.05, 0.55, 0.3)
TOMS = {"tom_1": (-0.2, 0.78, 0.78), "tom_2": (0.17, 0.8, 0.76), "tom_3": (0.5, 0.4, 0.58)}
HAT, RIDE, CRASH = (-0.58, 0.5, 0.86), (0.66, 0.85, 1.1), (-0.45, 1.05, 1.15)


def copper() -> Preset:
    """The demo song's kit, drummer and room."""
    mics = _mics()
    feel = Feel(3.0, 2.2, {"snare": 4.0, "hat": -2.0, "kick": 0.5})
    files = {
        "kick_in": "01 Kick In.wav",
        "kick_out": "02 Kick Out.wav",
        "snare_top": "03 Snare Top.wav",
        "snare_bottom": "04 Snare Btm.wav",
        "hat": "05 Hat.wav",
        "tom_1": "06 Rack 1.wav",
        "tom_2": "07 Rack 2.wav",
        "tom_3": "08 Floor.wav",
        "overhead_l": "09 OH L.wav",
        "overhead_r": "10 OH R.wav",
        "room_l": "11 Room L.wav",
        "room_r": "12 Room R.wav",
        "crush": "13 Talkback.wav",
    }
    plants = Plants(
        wild="tom_1",
        apart=(11, 27),
        hum={"room_l": (50.0, -56.0)},
        dc={"crush": 0.012},
        clipped=("overhead_l", "overhead_r"),
    )
    takes = (TakePlan(1), TakePlan(2, (16, "tom_2"), (4, "hat", "ride")), TakePlan(3))
    return Preset(
        "Copper Weather", 104.0, 48000, _kit(), mics, Room(), _chart(), feel, files, plants, takes
    )


def _chart() -> tuple[ChartSection, ...]:
    """What is played, part by part."""
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
        "kick": "X..x..X.X.x.x.x.",
        "snare": "....X.......X..g",
        "hat": "o...o...o...o...",
    }
    crash_one = {"crash_1": "X..............."}
    fill_down = {
        "snare": "........xx......",
        "tom_1": "..........xx....",
        "tom_2": "............xX..",
        "tom_3": "..............xX",
    }
    fill_short = {
        "snare": "........X.......",
        "tom_1": "............X.x.",
        "tom_3": "..............X.",
    }
    fill_low = {
        "snare": "........x.x.....",
        "tom_2": "............x...",
        "tom_3": ".............xXX",
    }
    return (
        ChartSection("intro", 2, {"hat": "x.x.x.x.x.x.x.x.", "kick": "X.......X......."}),
        ChartSection("verse", 6, verse, fill_short, crash_one),
        ChartSection("chorus", 8, chorus, fill_down, crash_one),
        ChartSection("verse", 6, verse_b, fill_low),
        ChartSection("chorus", 8, chorus, fill_down, crash_one),
        ChartSection(
            "out",
            2,
            {"kick": "X.......X.......", "snare": "....X.......X...", "hat": "x.x.x.x.x.x.x.x."},
            None,
            crash_one,
        ),
    )


def _kit() -> Kit:
    return Kit(
        (
            Drum("kick", KICK, 0.28, 57.0, 0.38, 0.7),
            Drum("snare", SNARE, 0.18, 188.0, 0.22, 0.85, ((402.0, 0.85, 0.42),)),
            Drum("tom_1", TOMS["tom_1"], 0.13, 141.0, 0.75, 0.9),
            Drum("tom_2", TOMS["tom_2"], 0.15, 108.0, 0.85, 0.95),
            Drum("tom_3", TOMS["tom_3"], 0.2, 76.0, 1.05, 1.1, (), Sympathy("kick", 1.0, 0.07)),
        ),
        (
            Cymbal("hat", HAT, 420.0, 0.16, 0.75),
            Cymbal("ride", RIDE, 310.0, 2.2, 0.5),
            Cymbal("crash_1", CRASH, 260.0, 2.6, 1.5, 140),
        ),
    )


def _mics() -> tuple[Microphone, ...]:
    return (
        Microphone("kick_in", (0.05, 0.72, 0.3), KICK, 0.5, 30, 15000, 4.0, -8.0, inside="kick"),
        Microphone("kick_out", (0.07, 1.12, 0.32), (0.05, 0.95, 0.3), 0.5, 25, 13000, 0.0, -9.0),
        above(SNARE, "snare_top", -0.06, 0.14, 0.05, presence_db=4.0, low_hz=45, peak_dbfs=-9.0),
        above(SNARE, "snare_bottom", 0.05, -0.1, -0.24, high_hz=18000, peak_dbfs=-12.0),
        above(HAT, "hat", -0.1, 0.1, 0.14, low_hz=80, high_hz=19000, peak_dbfs=-14.0),
        above(TOMS["tom_1"], "tom_1", 0.03, 0.13, 0.06, presence_db=3.0, peak_dbfs=-11.0),
        above(TOMS["tom_2"], "tom_2", 0.04, 0.14, 0.06, presence_db=3.0, peak_dbfs=-12.0),
        above(TOMS["tom_3"], "tom_3", 0.14, 0.1, 0.07, presence_db=3.0, peak_dbfs=-10.0),
        Microphone("overhead_l", (-0.55, 0.62, 1.75), (-0.2, 0.6, 0.6), 0.5, 40, 19000, 2.0, -2.5),
        Microphone("overhead_r", (0.62, 0.6, 1.72), (0.3, 0.6, 0.6), 0.5, 40, 19000, 2.0, -2.8),
        Microphone("room_l", (-1.6, 3.2, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -10.0, True),
        Microphone("room_r", (1.7, 3.15, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -10.0, True),
        Microphone("crush", (0.35, 1.9, 0.4), (0, 0.6, 0.6), 0.0, 90, 9000, 5.0, -6.0),
    )
