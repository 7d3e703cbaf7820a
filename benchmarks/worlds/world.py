"""One world: a source's kit, mics of a model set up somewhere, a room, a desk, and a part to play."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.simulate.room import Microphone
from benchmarks.recorded.kits import Kit
from benchmarks.recorded.patterns import CLOSE, OVERHEADS, Pattern
from benchmarks.recorded.recording import Recording, Setup, at_rate, make_recording
from benchmarks.recorded.single_hits import RATE, Sounds
from benchmarks.worlds.playing import PARTS, Part
from benchmarks.worlds.sources import BY_NAME, PIECE_NOTES, SIMULATED, kit_of

Rng = np.random.Generator
RATES = (44_100, 48_000, 48_000, 96_000)


@dataclass(frozen=True)
class World:
    """What a recording was drawn from, so that it can be drawn again: ``seed`` and the names of its
    source, its mics' model and its family of parts."""

    seed: int
    source: str
    model: str
    family: str

    @property
    def name(self) -> str:
        return f"{self.source}/{self.model}/{self.family}/{self.seed}"


def _cardioids(rng: Rng, mic: Microphone) -> Microphone:
    """Moving-coil cardioids close up, bright condensers over the kit."""
    close = not mic.name.startswith(("overhead", "kit"))
    return replace(
        mic,
        pattern=float(rng.uniform(0.45, 0.6)),
        high_hz=float(rng.uniform(11_000, 17_000) if close else rng.uniform(16_000, 20_000)),
        presence_db=float(rng.uniform(0, 6)),
    )


def _condensers(rng: Rng, mic: Microphone) -> Microphone:
    """Small condensers everywhere: wide response, tighter patterns."""
    return replace(
        mic,
        pattern=float(rng.uniform(0.5, 0.72)),
        low_hz=float(rng.uniform(25, 60)),
        high_hz=float(rng.uniform(17_000, 20_500)),
        presence_db=float(rng.uniform(-1, 3)),
    )


def _omnis(rng: Rng, mic: Microphone) -> Microphone:
    """Omnis and ribbons: much bleed, dull tops."""
    return replace(
        mic,
        pattern=float(rng.choice([0.0, 0.1, 0.25, 0.9])),
        low_hz=float(rng.uniform(20, 45)),
        high_hz=float(rng.uniform(7_000, 14_000)),
        presence_db=float(rng.uniform(-3, 1)),
    )


def _clips(rng: Rng, mic: Microphone) -> Microphone:
    """Small mics clipped to the rims: nearer, thin below, harsh above."""
    if mic.name.startswith(("overhead", "kit", "kick")):
        return _cardioids(rng, mic)
    x, y, z = np.array(mic.position) + 0.35 * (np.array(mic.aim) - np.array(mic.position))
    return replace(
        mic,
        position=(float(x), float(y), float(z)),
        pattern=float(rng.uniform(0.45, 0.7)),
        low_hz=float(rng.uniform(60, 130)),
        high_hz=float(rng.uniform(12_000, 18_000)),
        presence_db=float(rng.uniform(2, 8)),
    )


MODELS: dict[str, Callable[[Rng, Microphone], Microphone]] = {
    "cardioids": _cardioids,
    "condensers": _condensers,
    "omnis": _omnis,
    "clips": _clips,
}


def record(world: World, part: Part | None = None) -> Recording:
    """The recording of a world, of another ``part`` where one is given; the same world gives the same samples."""
    rng = np.random.default_rng([world.seed, *world.name.encode()])
    kit, sounds = _kit(world.source, rng)
    own = PARTS[world.family](rng)
    part = [s for s in (own if part is None else part) if s.piece in kit.pieces]
    mics = _mics(rng, {s.piece for s in part})
    pattern = Pattern(
        part,
        mics,
        bleed_db=float(rng.uniform(-6, 6)),
        dead=(str(rng.choice(mics[:2])),) if rng.random() < 0.06 and len(mics) > 6 else (),
        full_of={"tom_3": ("kick", float(rng.uniform(3, 9)))} if rng.random() < 0.2 else None,
    )
    model = MODELS[world.model]
    clipped = {str(rng.choice(mics)): float(rng.uniform(1, 5))} if rng.random() < 0.15 else {}
    setup = Setup(
        adjusted=lambda mic: model(rng, mic),
        noise_dbfs=float(rng.uniform(-84, -62)),
        desk={mic: _desk(rng) for mic in mics if rng.random() < 0.5},
        driven_db=clipped,
    )
    made = make_recording(kit, pattern, sounds, rng, setup)
    return at_rate(made, int(rng.choice(RATES)))


def _kit(source: str, rng: Rng) -> tuple[Kit, dict[tuple[int, int], Sounds]]:
    """A source's kit with each piece on one of its notes and tuned somewhere."""
    program = 0 if source == SIMULATED else int(rng.choice(BY_NAME[source].programs))
    hits = kit_of(source, program)
    shells, cymbals = float(rng.uniform(0.88, 1.14)), float(rng.uniform(0.9, 1.1))
    wander = float(rng.choice([0.0, 2.0, 3.0]))
    pieces = {}
    for piece, notes in PIECE_NOTES.items():
        known = [note for note in notes if note in hits]
        if known:
            tuning = shells if piece.startswith(("kick", "snare", "tom")) else cymbals
            pieces[piece] = (
                program,
                int(rng.choice(known)),
                tuning * float(rng.uniform(0.97, 1.03)),
            )
    sounds = {(program, note): replace(s, wander_db=wander) for note, s in hits.items()}
    return Kit(source, pieces), sounds


def _mics(rng: Rng, played: set[str]) -> tuple[str, ...]:
    """From a pair of overheads and a kick mic to a mic for everything."""
    mics = [*CLOSE, *OVERHEADS]
    drop = rng.random()
    if drop < 0.25:
        mics.remove(str(rng.choice(["kick_in", "kick_out"])))
    if rng.random() < 0.25:
        mics.remove("hat")
    if rng.random() < 0.25:
        mics.remove("snare_bottom")
    if rng.random() < 0.2:
        mics = [m for m in mics if m not in OVERHEADS] + ["overhead"]
    if "ride" in played and rng.random() < 0.5:
        mics.append("ride")
    return tuple(mics)


def _desk(rng: Rng) -> NDArray[np.float64]:
    """An equaliser that somebody turned while recording: two peaks and a low cut or none."""
    sections = []
    for centre in (float(rng.uniform(60, 400)), float(rng.uniform(900, 9000))):
        amount, w = 10 ** (float(rng.uniform(-6, 6)) / 40), 2 * np.pi * centre / RATE
        alpha, cos = np.sin(w) / 2.0, np.cos(w)
        b = [1 + alpha * amount, -2 * cos, 1 - alpha * amount]
        a = [1 + alpha / amount, -2 * cos, 1 - alpha / amount]
        sections.append([v / a[0] for v in b + a])
    return np.array(sections)
