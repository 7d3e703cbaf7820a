"""Recordings to learn from: kits put together at random from development's hits, in every
pattern, with mics left out at random, and songs of the simulator."""

import pickle
from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from arkund.core.simulate.presets import PRESETS
from arkund.core.simulate.session import simulate
from benchmarks.recorded.kits import Kit, kit_of
from benchmarks.recorded.patterns import PATTERNS, Pattern
from benchmarks.recorded.recording import make_recording
from benchmarks.recorded.single_hits import RATE, Sounds, peaks, render
from benchmarks.worlds.playing import FAMILIES
from benchmarks.worlds.sources import BY_NAME
from benchmarks.worlds.world import MODELS, World, record

KICKS = ((0, 36), (16, 36), (3, 36), (2, 36), (5, 36), (0, 35), (48, 36), (24, 36))
SNARES = ((0, 38), (16, 38), (3, 38), (0, 40), (16, 40), (3, 40), (24, 38), (24, 40))
BRUSHES = ((40, 38), (40, 40))
TOMS, HATS, CYMBALS = (0, 16, 24), (0, 1, 16), ((0, 49), (0, 57), (0, 51), (0, 59))
"""Notes (program, note) that none of the report's kits has; of brushes there are no others."""

WILD_CRASHES, WILD_RIDES = (49, 57, 52, 55), (51, 59, 53)
"""Notes of lessons from afar: cymbals differ from kit to kit more than drums do."""

ALONE = ("one_overhead", "one_file")
FROM_AFAR, AFAR_MICS = "afar_", ("overhead_l", "overhead_r", "overhead", "kit")
"""Lessons of which only these mics are rendered."""

SWELLING = "swelling_"
SWELLS_MS, SWELLS_DB = (5.0, 15.0), (12.0, 26.0)
GHOSTED = (
    "hat_off_kick",
    "half_time_ride",
    "shuffle_pedal",
    "linear",
    "flams",
    "never_struck",
    "struck_three_times",
    "mics_swapped",
    "two_crashes",
    "loud_bleed",
)
"""Lessons in which a snare's soft hits begin so much softer and take so long to swell, as a stick
that is let fall, and the wires after it, may."""

MORE = {"brushes": 5, "flams": 3, "loud_bleed": 2}
"""So many more seeds of what is hardest, `MORE_FROM` after the first."""

COLOUR_DB = 3.0
WANDERS_DB = (-1.5, 4.0)
"""How much less alike a lesson's hits are than the font's; below 0 they are as they are there."""

SIMULATED_BARS = 28
MORE_FROM, SIMULATED_FROM = 100, 60

LEFT_OUT = (
    (0.15, ("snare_bottom",)),
    (0.15, ("kick_out",)),
    (0.06, ("kick_in",)),
    (0.06, ("snare_bottom", "kick_out")),
    (0.06, ("hat",)),
)
"""Mics that a session may lack, and how often."""


@dataclass(frozen=True)
class Lesson:
    """A recording with its truth: ``mics`` ``{mic: (frames,)}``, ``hits`` (piece, time in s, kind),
    ``spans`` of rolls (piece, begin, end)."""

    name: str
    mics: dict[str, NDArray[np.float32]]
    hits: list[tuple[str, float, str]]
    spans: list[tuple[str, float, float]]
    rate: int


WORLD, WORLDS_FROM = "world ", 20_000
LEARNED_SOURCES = ("fluid", "tim", "freepats", "pearl")
LEARNED_MODELS = ("cardioids", "condensers")
UNLEARNED_FAMILIES = ("linear", "half_time")
"""What lessons of worlds are drawn from; a source, two models of mics and two families of parts are left
to be reported on."""


def world_lessons(
    count: int, first: int = WORLDS_FROM, *, everything: bool = False
) -> list[tuple[str, int]]:
    """Names and seeds of ``count`` worlds, sources, models and families in turn; with ``everything`` of those
    too that are otherwise left to be reported on."""
    sources = tuple(BY_NAME) if everything else LEARNED_SOURCES
    models = tuple(MODELS) if everything else LEARNED_MODELS
    families = [f for f in FAMILIES if everything or f not in UNLEARNED_FAMILIES]
    return [
        (
            WORLD
            + " ".join(
                (
                    sources[n % len(sources)],
                    models[(n // len(sources)) % len(models)],
                    families[n % len(families)],
                )
            ),
            first + n,
        )
        for n in range(count)
    ]


def close_lessons(seeds: int, first: int = 1) -> list[tuple[str, int]]:
    """Names and seeds of lessons with close mics, of so many seeds from the ``first`` on: every
    pattern, more of what is hardest, ghosts that swell, and simulated ones."""
    out = [
        (name, seed)
        for seed in range(first, first + seeds)
        for name in PATTERNS
        if name not in ALONE
    ]
    out += [(name, first + MORE_FROM + n) for name, more in MORE.items() for n in range(more)]
    out += [(SWELLING + name, first + n) for n in range(seeds // 4 + 1) for name in GHOSTED]
    simulated = range(first + SIMULATED_FROM, first + SIMULATED_FROM + seeds + 1)
    return out + [(f"sim_{preset}", seed) for seed in simulated for preset in PRESETS]


def afar_lessons(seeds: int) -> list[tuple[str, int]]:
    """Names and seeds of those of which only far mics are rendered."""
    return [(FROM_AFAR + name, seed) for seed in range(1, seeds // 2 + 1) for name in PATTERNS]


def kept(folder: Path, wanted: list[tuple[str, int]]) -> Iterator[Lesson]:
    """The lessons one by one, rendered into the folder if they are not there yet."""
    folder.mkdir(parents=True, exist_ok=True)
    for name, seed in wanted:
        file = folder / f"{name}-{seed}.pkl"
        if not file.exists():
            file.write_bytes(pickle.dumps(_made(name, seed)))
        yield pickle.loads(file.read_bytes())


def _made(name: str, seed: int) -> Lesson:
    if name.startswith(WORLD):
        source, model, family = name.removeprefix(WORLD).split()
        made = record(World(seed, source, model, family))
        return Lesson(name, made.mics, _told(made.hits), made.spans, made.rate)
    if name.startswith("sim_"):
        session = simulate(name.removeprefix("sim_"), seed, bars=SIMULATED_BARS)
        return Lesson(name, session.mics, _told(session.truth["hits"]), [], session.rate)
    rng = np.random.default_rng([seed, sum(map(ord, name)), 99])
    pattern = PATTERNS[name.removeprefix(FROM_AFAR).removeprefix(SWELLING)](rng)
    kit = _kit(rng, pattern.brushed)
    if name.startswith(FROM_AFAR):
        kit, pattern = _wilder(kit, rng), replace(pattern, mics=AFAR_MICS, dead=(), swapped=None)
    else:
        pattern = _as_miked(pattern, rng)
    sounds = _sounds()
    notes = {(program, note) for program, note, _ in kit.pieces.values()}
    wander_db = max(float(rng.uniform(*WANDERS_DB)), 0.0)
    coloured = {at: _coloured(sounds[at], int(rng.integers(1 << 30)), wander_db) for at in notes}
    if name.startswith(SWELLING):
        at = kit.pieces["snare"][:2]
        coloured[at] = _swelling(coloured[at], rng.uniform(*SWELLS_MS), rng.uniform(*SWELLS_DB))
    recording = make_recording(kit, pattern, coloured, rng)
    return Lesson(name, recording.mics, _told(recording.hits), recording.spans, recording.rate)


def _told(hits: list[dict[str, Any]]) -> list[tuple[str, float, str]]:
    return [(h["piece"], h["time_s"], h["kind"]) for h in hits]


@cache
def _sounds() -> dict[tuple[int, int], Sounds]:
    """All hits, rendered once a process."""
    return render(_notes())


def _notes() -> set[tuple[int, int]]:
    toms = {(program, note) for program in TOMS for note in (50, 47, 43)}
    hats = {(program, note) for program in HATS for note in (42, 44, 46)}
    wild = {(0, note) for note in WILD_CRASHES + WILD_RIDES}
    return {*KICKS, *SNARES, *BRUSHES, *CYMBALS} | toms | hats | wild


def _kit(rng: np.random.Generator, brushed: bool) -> Kit:
    def one(choices: tuple[Any, ...]) -> Any:
        return choices[rng.integers(len(choices))]

    kick = one(KICKS)
    snare = BRUSHES[0 if rng.random() < 0.5 else 1] if brushed else one(SNARES)
    toms, shells = one(TOMS), float(rng.uniform(0.85, 1.15))
    hat, cymbals = one(HATS), float(rng.uniform(0.88, 1.12))
    crash, other = (49, 57) if rng.random() < 0.5 else (57, 49)
    ride = 51 if rng.random() < 0.5 else 59
    tunings = [float(rng.uniform(0.88, 1.12)) for _ in range(2)]
    return kit_of(
        "at random",
        (*kick, tunings[0]),
        (*snare, tunings[1]),
        toms,
        shells,
        hat,
        cymbals,
        ride=ride,
        crashes=(crash, other),
    )


def _wilder(kit: Kit, rng: np.random.Generator) -> Kit:
    """The kit with other cymbals, each tuned on its own."""
    crash, other = rng.choice(WILD_CRASHES, 2, replace=False)
    notes = {"crash_1": crash, "crash_2": other, "ride": rng.choice(WILD_RIDES)}
    tuned = {p: (0, int(note), float(rng.uniform(0.8, 1.25))) for p, note in notes.items()}
    hats = float(rng.uniform(0.85, 1.2))
    tuned |= {p: (*kit.pieces[p][:2], hats) for p in ("hat", "hat pedal", "hat open")}
    return replace(kit, pieces=kit.pieces | tuned)


def _as_miked(pattern: Pattern, rng: np.random.Generator) -> Pattern:
    """The pattern with mics that somebody left out, and with more or less bleed."""
    draw = float(rng.random())
    gone: tuple[str, ...] = ()
    for share, mics in LEFT_OUT:
        if 0 <= draw < share and not pattern.dead and not pattern.swapped:
            gone = mics
        draw -= share
    bleed_db = pattern.bleed_db or float(rng.uniform(-3, 5))
    return replace(pattern, mics=tuple(m for m in pattern.mics if m not in gone), bleed_db=bleed_db)


def _coloured(sounds: Sounds, seed: int, wander_db: float) -> Sounds:
    """Another drum of the kind: all layers through the same gentle peaks and dips, its hits less
    alike."""
    layers = tuple(
        (v, peaks(sound, COLOUR_DB, np.random.default_rng(seed))) for v, sound in sounds.layers
    )
    loudest = max(float(np.abs(sound).max()) for _, sound in layers)
    return Sounds(tuple((v, sound / loudest) for v, sound in layers), wander_db)


def _swelling(sounds: Sounds, rises_ms: float, from_db: float) -> Sounds:
    """The softer a hit, the softer it begins, until it has risen."""
    count = round(rises_ms * RATE / 1000)
    down = np.linspace(-from_db, 0.0, count)

    def risen(velocity: int, sound: NDArray[np.float64]) -> NDArray[np.float64]:
        softness = float(np.clip((124 - velocity) / 80, 0.0, 1.0))
        gain = np.ones(len(sound))
        gain[:count] = 10 ** (softness * down[: len(sound)] / 20)
        return sound * gain

    return replace(sounds, layers=tuple((v, risen(v, sound)) for v, sound in sounds.layers))
