"""“Thin Ice”: sparse and soft, 10 mics, 20 bars at 68 BPM, a kit that is hardly touched."""

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Cymbal, Drum, Kit
from arkund.core.simulate.preset import Plants, Preset, above
from arkund.core.simulate.room import Microphone, Room


def hush() -> Preset:
    """“Thin Ice”: sparse and soft."""
    snare, kick = (-0.13, 0.39, 0.6), (0.05, 0.57, 0.28)
    tom, floor = (-0.02, 0.8, 0.77), (0.52, 0.4, 0.57)
    hat, ride, crash = (-0.58, 0.5, 0.87), (0.64, 0.84, 1.08), (-0.45, 1.06, 1.16)
    kit = Kit(
        (
            Drum("kick", kick, 0.26, 60.0, 0.6, 0.7),
            Drum("snare", snare, 0.17, 196.0, 0.28, 0.85, ((468.0, 0.95, 0.4),)),
            Drum("tom_1", tom, 0.14, 132.0, 0.9, 0.95),
            Drum("tom_2", floor, 0.2, 84.0, 1.1, 1.1),
        ),
        (
            Cymbal("hat", hat, 430.0, 0.16, 0.7),
            Cymbal("ride", ride, 320.0, 2.3, 0.5),
            Cymbal("crash_1", crash, 260.0, 2.8, 1.3, 140),
        ),
    )
    mics = (
        Microphone("kick_out", (0.06, 1.1, 0.3), (0.05, 0.96, 0.28), 0.5, 25, 13000, 1.0, -14.0),
        above(snare, "snare_top", -0.05, 0.14, 0.06, presence_db=4.0, low_hz=45, peak_dbfs=-15.0),
        above(snare, "snare_bottom", 0.05, -0.1, -0.24, high_hz=18000, peak_dbfs=-18.0),
        above(tom, "tom_1", 0.03, 0.13, 0.06, presence_db=3.0, peak_dbfs=-17.0),
        above(floor, "tom_2", 0.14, 0.1, 0.07, presence_db=3.0, peak_dbfs=-16.0),
        above(hat, "hat", -0.1, 0.1, 0.14, low_hz=80, high_hz=19000, peak_dbfs=-18.0),
        Microphone("overhead_l", (-0.45, 0.65, 1.6), (-0.2, 0.6, 0.6), 0.5, 40, 19000, 2.0, -12.0),
        Microphone("overhead_r", (0.52, 0.62, 1.6), (0.3, 0.6, 0.6), 0.5, 40, 19000, 2.0, -12.0),
        Microphone("room_l", (-1.3, 2.6, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -14.0, True),
        Microphone("room_r", (1.4, 2.6, 1.2), (0, 0.6, 0.6), 0.0, 25, 16000, 0.0, -14.0, True),
    )
    feel = Feel(4.0, 2.4, {"snare": 3.0, "hat": 0.0, "kick": 0.0}, touch=0.6)
    plants = Plants(wild="tom_1", hum={"snare_bottom": (60.0, -62.0)}, dc={"kick_out": 0.01})
    files = {m.name: f"thin ice - {m.name.replace('_', '-')}.wav" for m in mics}
    return Preset(
        "Thin Ice",
        68.0,
        48000,
        kit,
        mics,
        Room((4.2, 4.6, 2.6), (2.1, 1.3, 0.0), 0.3, 0.3),
        _chart(),
        feel,
        files,
        plants,
    )


def _chart() -> tuple[ChartSection, ...]:
    """What is played, section by section."""
    verse = {
        "kick": "X.......x.......",
        "snare": "............X...",
        "hat": "x...x...x...x...",
    }
    lift = {
        "kick": "X.....x.X.......",
        "snare": "....X.......X...",
        "hat": "x.x.x.x.x.x.x.x.",
    }
    crash_one = {"crash_1": "x..............."}
    fill = {"snare": "........x.......", "tom_1": "..........x.x...", "tom_2": "..............X."}
    fill_b = {"tom_1": "........x...x...", "tom_2": "..........x...X."}
    return (
        ChartSection("verse", 8, verse, fill),
        ChartSection("lift", 8, lift, fill_b, crash_one),
        ChartSection("out", 4, verse, fill, crash_one),
    )
