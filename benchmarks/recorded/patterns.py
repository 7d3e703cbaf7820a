"""What is played in the recordings made of recorded hits, and what is wrong with their mics."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from arkund.core.simulate.drummer import ChartSection, Feel, PlayedHit, perform

LEAD_IN_S = 0.5
CLOSE = ("kick_in", "kick_out", "snare_top", "snare_bottom", "tom_1", "tom_2", "tom_3", "hat")
OVERHEADS = ("overhead_l", "overhead_r")


@dataclass(frozen=True)
class Pattern:
    """A part to play: ``hits``, sorted; ``mics`` that listen; ``spans`` of rolls as (piece,
    begin, end) in s, whose hits are of kind *roll*; close mics hear other pieces by
    ``bleed_db`` more than usual; ``dead`` mics hear nothing, ``swapped`` ones bear each other's
    names; ``full_of`` maps a mic to (piece, dB) that it hears that much more of."""

    hits: list[PlayedHit]
    mics: tuple[str, ...] = CLOSE + OVERHEADS
    spans: tuple[tuple[str, float, float], ...] = ()
    bleed_db: float = 0.0
    dead: tuple[str, ...] = ()
    swapped: tuple[str, str] | None = None
    full_of: dict[str, tuple[str, float]] | None = None
    brushed: bool = False


Steps = dict[str, str]
FILL: Steps = {
    "snare": "........xx......",
    "tom_1": "..........xx....",
    "tom_2": "............xX..",
    "tom_3": "..............xX",
}
ROCK: Steps = {"kick": "X.....x.X.x.....", "snare": "....X..g....X.g.", "hat": "x.x.x.x.x.x.x.x."}


def _played(
    rng: np.random.Generator,
    bpm: float,
    bars: int,
    steps: Steps,
    fill: Steps | None = FILL,
    first: Steps | None = None,
) -> list[PlayedHit]:
    """A pattern over some bars, a fill in every fourth, by a drummer of ordinary tightness."""
    late = {p: float(rng.uniform(-4, 5)) for p in ("snare", "hat", "kick", "ride")}
    feel = Feel(3.0, 2.5, late, float(rng.uniform(0.9, 1.1)))
    chart = [ChartSection("part", 4, steps, fill, first) for _ in range(bars // 4)]
    return perform(chart, bpm, feel, LEAD_IN_S, rng)


def hat_on_kick(rng: np.random.Generator) -> Pattern:
    """Kicks in sixteenths at 190 to 210, the hat on every beat and so always on a kick."""
    steps = {"kick": "x" * 16, "snare": "....X.......X...", "hat": "x...x...x...x..."}
    return Pattern(_played(rng, rng.uniform(190, 210), 20, steps, None))


def hat_off_kick(rng: np.random.Generator) -> Pattern:
    """The hat never on a kick."""
    steps = {"kick": "X...x...X...x...", "snare": "....X..g....X...", "hat": "..x...x...x...x."}
    return Pattern(_played(rng, rng.uniform(100, 130), 16, steps))


def two_feet(rng: np.random.Generator) -> Pattern:
    """Sixteenths of two feet at 160 to 220 under a ride with a mic, fills over the toms."""
    steps = {"kick": "x" * 16, "snare": "....X.......X...", "ride": "x.x.x.x.x.x.x.x."}
    crash = {"crash_1": "X..............."}
    return Pattern(
        _played(rng, rng.uniform(160, 220), 20, steps, FILL, crash), (*CLOSE, "ride", *OVERHEADS)
    )


def half_time_ride(rng: np.random.Generator) -> Pattern:
    """Half time; a ride and a crash without mics."""
    steps = {"kick": "X.....x.......x.", "snare": "........X....g..", "ride": "x...x...x...x..."}
    crash = {"crash_1": "X..............."}
    return Pattern(_played(rng, rng.uniform(110, 140), 16, steps, FILL, crash))


def brushes(rng: np.random.Generator) -> Pattern:
    """Brushes, ghosts at 15 % of full velocity."""
    steps = {"kick": "x.......x..x....", "snare": "..g.x.gg..g.x.g.", "hat": "....x.......x..."}
    part = _played(rng, rng.uniform(70, 95), 12, steps)
    soft = [
        replace(s, velocity=int(rng.integers(16, 23))) if s.kind == "ghost" else s for s in part
    ]
    return Pattern(soft, brushed=True)


def shuffle_pedal(rng: np.random.Generator) -> Pattern:
    """A shuffle on the ride; the pedal hat sounds twice, 12 to 18 ms apart, off every beat; the
    floor tom is struck three times, its mic full of kick."""
    steps = {
        "kick": "X..X.xX..x..",
        "snare": "..gX..g..X.g",
        "ride": "x.xx.xx.xx.x",
        "hat": "...x.....x..",
    }
    part = _played(rng, rng.uniform(80, 110), 16, steps, None)
    part = [replace(s, kind="pedal", velocity=70) if s.piece == "hat" else s for s in part]
    return Pattern(
        _with_toms(part, "tom_3", 3, rng),
        (*CLOSE, "ride", *OVERHEADS),
        full_of={"tom_3": ("kick", 8.0)},
    )


def linear(rng: np.random.Generator) -> Pattern:
    """One hit at a time, all over the kit."""
    steps = {
        "kick": "x...x.....x..x..",
        "snare": "..g.....X....g..",
        "hat": ".x.x....." + ".x....x"[:7],
        "tom_1": "......x.........",
        "tom_3": "...........x....",
    }
    return Pattern(_played(rng, rng.uniform(85, 115), 16, steps))


def blast(rng: np.random.Generator) -> Pattern:
    """Blast beats: snare and kick in turn, the hat on each kick."""
    steps = {"kick": "x.x.x.x.x.x.x.x.", "snare": ".x.x.x.x.x.x.x.x", "hat": "x.x.x.x.x.x.x.x."}
    return Pattern(_played(rng, rng.uniform(180, 230), 20, steps))


def rolls(rng: np.random.Generator) -> Pattern:
    """Rolls of singles and buzzes of half a bar on the snare, the kick going on beneath."""
    bpm = rng.uniform(80, 120)
    steps = {"kick": "X.......X.......", "snare": "....X...........", "hat": "x.x.x.x........."}
    part = _played(rng, bpm, 16, steps, None)
    beat = 60 / bpm
    spans = []
    for bar in range(16):
        begin = LEAD_IN_S + (4 * bar + 2) * beat + 0.02
        apart = 0.026 if bar % 2 else float(rng.uniform(0.055, 0.08))
        at = begin + np.arange(0, 1.75 * beat, apart)
        at[1:] += rng.normal(0, 0.002, len(at) - 1)
        loud = np.linspace(45, 95, len(at)) if bar % 4 < 2 else np.full(len(at), 75)
        loud = loud + rng.normal(0, 4, len(at))
        part += [
            PlayedHit(float(t), "snare", int(v), "roll") for t, v in zip(at, loud, strict=True)
        ]
        spans.append(("snare", float(at[0]), float(at[-1])))
    return Pattern(sorted(part, key=lambda s: s.time_s), spans=tuple(spans))


def flams(rng: np.random.Generator) -> Pattern:
    """Every second backbeat a flam, the grace note 8 to 40 ms before."""
    part = _played(rng, rng.uniform(90, 125), 16, ROCK)
    grace = [
        replace(
            s,
            time_s=s.time_s - float(rng.uniform(0.008, 0.040)),
            velocity=round(s.velocity * rng.uniform(0.4, 0.7)),
            kind="grace",
        )
        for n, s in enumerate(s for s in part if s.piece == "snare" and s.kind == "accent")
        if n % 2
    ]
    return Pattern(sorted(part + grace, key=lambda s: s.time_s))


def never_struck(rng: np.random.Generator) -> Pattern:
    """Two toms never struck."""
    fill = {p: s for p, s in FILL.items() if p in ("snare", "tom_1")}
    return Pattern(_played(rng, rng.uniform(95, 135), 16, ROCK, fill))


def struck_three_times(rng: np.random.Generator) -> Pattern:
    """No fills; the floor tom is struck three times, the rack tom once."""
    part = _played(rng, rng.uniform(95, 135), 16, ROCK, None)
    part = _with_toms(part, "tom_3", 3, rng)
    return Pattern(_with_toms(part, "tom_1", 1, rng), full_of={"tom_3": ("kick", 6.0)})


def mic_dead(rng: np.random.Generator) -> Pattern:
    """The inside kick mic or the mic under the snare is dead."""
    dead = "kick_in" if rng.random() < 0.5 else "snare_bottom"
    return Pattern(_played(rng, rng.uniform(95, 135), 16, ROCK), dead=(dead,))


def mics_swapped(rng: np.random.Generator) -> Pattern:
    """The mics of the rack toms bear each other's names."""
    return Pattern(_played(rng, rng.uniform(95, 135), 16, ROCK), swapped=("tom_1", "tom_2"))


def kick_from_outside(rng: np.random.Generator) -> Pattern:
    """No mic in the kick."""
    mics = tuple(m for m in CLOSE + OVERHEADS if m != "kick_in")
    return Pattern(_played(rng, rng.uniform(95, 135), 16, ROCK), mics)


def two_crashes(rng: np.random.Generator) -> Pattern:
    """Two crashes without mics, as accents and struck alone."""
    part = _played(rng, rng.uniform(95, 135), 16, ROCK, FILL, {"crash_1": "X..............."})
    alone = [
        replace(s, piece="crash_2", velocity=108, kind="accent")
        for s in part
        if s.piece == "hat" and rng.random() < 0.08
    ]
    gone = {s.time_s for s in alone}
    part = [s for s in part if s.piece != "hat" or s.time_s not in gone]
    return Pattern(sorted(part + alone, key=lambda s: s.time_s))


def loud_bleed(rng: np.random.Generator) -> Pattern:
    """Bleed 6 dB louder than usual."""
    return Pattern(_played(rng, rng.uniform(95, 135), 16, ROCK), bleed_db=6.0)


def one_overhead(rng: np.random.Generator) -> Pattern:
    """One overhead and nothing else."""
    return Pattern(_played(rng, rng.uniform(90, 130), 16, ROCK), ("overhead",))


def one_file(rng: np.random.Generator) -> Pattern:
    """The whole kit in one file, from in front."""
    return Pattern(_played(rng, rng.uniform(90, 130), 16, ROCK), ("kit",))


def _with_toms(
    part: list[PlayedHit], piece: str, count: int, rng: np.random.Generator
) -> list[PlayedHit]:
    """A few hits of a drum in between, each in a sixteenth's gap."""
    times = np.array([s.time_s for s in part])
    gaps = np.flatnonzero(np.diff(times) > 0.1)
    chosen = rng.choice(gaps[: len(gaps) - 4], count, replace=False)
    more = [
        PlayedHit(float(times[i] + times[i + 1]) / 2, piece, int(rng.integers(85, 115)))
        for i in chosen
    ]
    return sorted(part + more, key=lambda s: s.time_s)


PATTERNS: dict[str, Callable[[np.random.Generator], Pattern]] = {
    make.__name__: make
    for make in (
        hat_on_kick,
        hat_off_kick,
        two_feet,
        half_time_ride,
        brushes,
        shuffle_pedal,
        linear,
        blast,
        rolls,
        flams,
        never_struck,
        struck_three_times,
        mic_dead,
        mics_swapped,
        kick_from_outside,
        two_crashes,
        loud_bleed,
        one_overhead,
        one_file,
    )
}
