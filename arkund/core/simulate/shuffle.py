"""“Lantern Row”: a slow shuffle in triplets with many ghosts, 12 mics, 24 bars at 76 BPM, three takes."""

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Cymbal, Drum, Kit, Sympathy
from arkund.core.simulate.preset import Plants, Preset, TakePlan, above
from arkund.core.simulate.room import Microphone, Room


def shuffle() -> Preset:
    """“Lantern Row”: a slow shuffle with many ghosts."""
    snare, kick = (-0.14, 0.4, 0.6), (0.04, 0.56, 0.3)
    tom, floor = (0.0, 0.82, 0.78), (0.5, 0.42, 0.56)
    hat, ride, crash = (-0.56, 0.52, 0.88), (0.62, 0.82, 1.06), (-0.42, 1.08, 1.18)
    kit = Kit(
        (
            Drum("kick", kick, 0.28, 51.0, 0.5, 0.7),
            Drum("snare", snare, 0.18, 172.0, 0.24, 0.85, ((512.0, 0.9, 0.35),)),
            Drum("tom_1", tom, 0.14, 118.0, 0.8, 0.95),
            Drum("tom_2", floor, 0.2, 82.0, 1.0, 1.1, (), Sympathy("kick", 1.1, 0.08)),
        ),
        (
            Cymbal("hat", hat, 440.0, 0.15, 0.75),
            Cymbal("ride", ride, 300.0, 2.0, 0.5),
            Cymbal("crash_1", crash, 250.0, 2.6, 1.4, 140),
        ),
    )
    mics = (
        Microphone("kick_in", (0.04, 0.73, 0.3), kick, 0.5, 30, 15000, 4.0, -9.0, inside="kick"),
        Microphone("kick_out", (0.06, 1.1, 0.31), (0.04, 0.96, 0.3), 0.5, 25, 13000, 0.0, -10.0),
        above(snare, "snare_top", -0.06, 0.14, 0.06, presence_db=4.0, low_hz=45, peak_dbfs=-10.0),
        above(snare, "snare_bottom", 0.05, -0.1, -0.25, high_hz=18000, peak_dbfs=-13.0),
        above(hat, "hat", -0.1, 0.1, 0.14, low_hz=80, high_hz=19000, peak_dbfs=-15.0),
        above(tom, "tom_1", 0.03, 0.13, 0.06, presence_db=3.0, peak_dbfs=-12.0),
        above(floor, "tom_2", 0.14, 0.1, 0.07, presence_db=3.0, peak_dbfs=-11.0),
        Microphone("overhead_l", (-0.5, 0.64, 1.7), (-0.2, 0.6, 0.6), 0.5, 40, 19000, 2.0, -9.0),
        Microphone("overhead_r", (0.58, 0.62, 1.7), (0.3, 0.6, 0.6), 0.5, 40, 19000, 2.0, -9.0),
        Microphone("room_l", (-1.5, 3.0, 1.3), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -11.0),
        Microphone("room_r", (1.6, 3.0, 1.3), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -11.0),
        Microphone("crush", (0.3, 1.8, 0.4), (0, 0.6, 0.6), 0.0, 90, 9000, 5.0, -8.0),
    )
    feel = Feel(4.0, 2.5, {"snare": 6.0, "hat": -1.0, "kick": 1.0})
    plants = Plants(
        wild="tom_2", apart=(4, 20), hum={"crush": (50.0, -58.0)}, dc={"room_r": 0.006}, clipped=()
    )
    takes = (TakePlan(1), TakePlan(2, (16, "tom_1")), TakePlan(3))
    files = {m.name: f"{m.name.replace('_', ' ').upper()}.wav" for m in mics}
    return Preset(
        "Lantern Row",
        76.0,
        48000,
        kit,
        mics,
        Room((5.4, 5.0, 2.7), (2.7, 1.4, 0.0)),
        _chart(),
        feel,
        files,
        plants,
        takes,
    )


def _chart() -> tuple[ChartSection, ...]:
    """What is played, section by section."""
    verse = {
        "kick": "X....xX..x..",
        "snare": "..gX.g..gX.g",
        "hat": "x.xx.xx.xx.x",
    }
    chorus = {"kick": "X..x.xX..x..", "snare": "..gX.g..gX..", "ride": "x.xx.xx.xx.x"}
    crash_one = {"crash_1": "X..........."}
    fill = {"snare": "......x.x...", "tom_1": ".........x..", "tom_2": "..........xX"}
    fill_low = {"snare": "......x.....", "tom_1": "........x.x.", "tom_2": "...........X"}
    return (
        ChartSection("verse", 8, verse, fill, crash_one),
        ChartSection("chorus", 8, chorus, fill_low, crash_one),
        ChartSection("verse", 6, verse, fill, crash_one),
        ChartSection("out", 2, verse, None, crash_one),
    )
