"""What a simulated session is made of: kit, mics, chart, feel, planted faults, takes."""

from dataclasses import dataclass, replace

import numpy as np

from arkund.core.simulate.drummer import ChartSection, Feel
from arkund.core.simulate.kit import Kit, Position
from arkund.core.simulate.room import Microphone, Room


@dataclass(frozen=True)
class Plants:
    """Faults put into a session on purpose.

    ``wild`` is the piece with one hit 8 dB too loud; ``apart`` the bars in which kick and
    snare that are meant together are parted by 8 to 20 ms; ``hum`` maps mics to (Hz, dBFS of its
    first line); ``dc`` maps mics to an offset; ``clipped`` mics run over full scale at their
    loudest moments.
    """

    wild: str | None = None
    apart: tuple[int, ...] = ()
    hum: dict[str, tuple[float, float]] | None = None
    dc: dict[str, float] | None = None
    clipped: tuple[str, ...] = ()


@dataclass(frozen=True)
class TakePlan:
    """How a take differs from the chart: a hit left out as (bar, piece), and a section by its
    place in the chart in which another cymbal is ridden, as (section, from, to)."""

    number: int
    dropped: tuple[int, str] | None = None
    rides: tuple[int, str, str] | None = None


@dataclass(frozen=True)
class Preset:
    """All that a session needs but its seed."""

    title: str
    bpm: float
    rate: int
    kit: Kit
    mics: tuple[Microphone, ...]
    room: Room
    chart: tuple[ChartSection, ...]
    feel: Feel
    files: dict[str, str]
    plants: Plants = Plants()
    takes: tuple[TakePlan, ...] = (TakePlan(1),)
    lead_in_s: float = 0.6


def above(
    piece: Position, name: str, dx: float, dy: float, dz: float, **more: object
) -> Microphone:
    """A mic a little above and beside a piece, looking at it."""
    x, y, z = piece
    return Microphone(name, (x + dx, y + dy, z + dz), piece, **more)  # type: ignore[arg-type]


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
        replace(
            d,
            fundamental_hz=d.fundamental_hz * float(rng.uniform(0.94, 1.06)),
            t60_s=d.t60_s * float(rng.uniform(0.85, 0.95)),
            rings=tuple((hz * float(rng.uniform(0.96, 1.04)), s, a) for hz, s, a in d.rings),
        )
        for d in preset.kit.drums
    )
    cymbals = tuple(
        replace(
            c,
            lowest_hz=c.lowest_hz * float(rng.uniform(0.9, 1.1)),
            level=c.level * float(rng.uniform(0.85, 0.95)),
        )
        for c in preset.kit.cymbals
    )
    return replace(preset, mics=tuple(mics), kit=Kit(drums, cymbals))
