"""The simulated drums: what vibrates, how long, how bright, and where it stands.

Frequencies of the round heads follow the zeros of the Bessel functions (ideal membrane);
cymbals are dense, irregular sets of partials. Positions are metres: the drummer sits at the
origin, looks along +y, z is up.
"""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.modal import Bank, strike
from arkund.core.simulate.voice import BRIGHT_HZ, KNOCK_S, Voice, brightness, voiced, window_s

MEMBRANE_RATIOS = np.array(
    [1.0, 1.593, 2.135, 2.295, 2.653, 2.917, 3.155, 3.5, 3.598, 3.652, 4.06, 4.15, 4.6, 4.83, 5.4]
)
"""Zeros of J_m over the first zero of J_0: the modes of an ideal membrane."""

Position = tuple[float, float, float]


@dataclass(frozen=True)
class Part:
    """One radiating surface of a piece.

    ``delay_m`` is the way that sound has gone before this part gives it off; ``dipole`` parts
    push to one side while they pull at the other, so mics above hear them inverted; a part that
    ``answers`` is set off by another and never first; mics that
    stand further back than where it ``faces_from`` (y in m) hear its top through what is between.
    """

    piece: str
    name: str
    position: Position
    size_m: float
    sound: NDArray[np.float32]
    delay_m: float = 0.0
    dipole: bool = False
    answers: bool = False
    faces_from: float | None = None


@dataclass(frozen=True)
class Sympathy:
    """A drum that sings when another is struck: by which, how long (T60 in s), and how loud
    against a hit of its own."""

    by: str
    t60_s: float
    level: float


@dataclass(frozen=True)
class Drum:
    """A shell: fundamental in Hz, ring as T60 in s, level at 1 m, extra rings (Hz, s, level), and
    what makes it sing."""

    piece: str
    position: Position
    radius_m: float
    fundamental_hz: float
    t60_s: float
    level: float
    rings: tuple[tuple[float, float, float], ...] = ()
    sings: Sympathy | None = None


@dataclass(frozen=True)
class Cymbal:
    """A plate: lowest partial in Hz, T60 of its low partials in s, level at 1 m, partials."""

    piece: str
    position: Position
    lowest_hz: float
    t60_s: float
    level: float
    partials: int = 110


CONTACT_MS = 0.09
"""How long a stick touches a cymbal."""


@dataclass(frozen=True)
class Kit:
    """The drums and cymbals of a simulated kit."""

    drums: tuple[Drum, ...]
    cymbals: tuple[Cymbal, ...]

    @property
    def pieces(self) -> list[str]:
        return [d.piece for d in self.drums] + [c.piece for c in self.cymbals]


def play(
    kit: Kit, hits: list[PlayedHit], frames: int, rate: int, rng: np.random.Generator
) -> list[Part]:
    """Every part of the kit sounding over ``frames``, for hits in any order."""
    bodies = (*kit.drums, *kit.cymbals)

    def sound(body: Drum | Cymbal, own_rng: np.random.Generator) -> list[Part]:
        own = sorted((s for s in hits if s.piece == body.piece), key=lambda s: s.time_s)
        if isinstance(body, Drum):
            waking = [s for s in hits if body.sings and s.piece == body.sings.by]
            return _play_drum(body, own, waking, frames, rate, own_rng)
        return _play_cymbal(body, own, frames, rate, own_rng)

    with ThreadPoolExecutor(2) as pool:
        return [part for parts in pool.map(sound, bodies, rng.spawn(len(bodies))) for part in parts]


def force_of(velocity: float) -> float:
    """Force of a hit of MIDI velocity 1–127, 1 at 100: about 9 dB a halving."""
    return float((velocity / 100.0) ** 1.6)


def _hits_in(
    own: list[PlayedHit], rate: int, softest_ms: float, hardest_ms: float
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.float64]]:
    onsets = np.array([s.time_s * rate for s in own])
    forces = np.array([force_of(s.velocity) * 10 ** (s.gain_db / 20) for s in own])
    hardness = np.clip(np.array([s.velocity for s in own]) / 127, 0.05, 1)
    contacts = (softest_ms + (hardest_ms - softest_ms) * hardness) / 1000
    return onsets, forces, contacts


def _play_drum(
    drum: Drum,
    own: list[PlayedHit],
    waking: list[PlayedHit],
    frames: int,
    rate: int,
    rng: np.random.Generator,
) -> list[Part]:
    ratios = MEMBRANE_RATIOS * rng.uniform(0.985, 1.015, len(MEMBRANE_RATIOS))
    frequency = drum.fundamental_hz * ratios
    t60 = drum.t60_s * (1.0 / ratios) ** 0.8
    level = 1.0 / ratios**0.5 * rng.uniform(0.6, 1.2, len(ratios))
    level[0] = 1.4
    is_kick = drum.piece.startswith("kick")
    if drum.rings:
        hz, seconds, amount = (np.array(v) for v in zip(*drum.rings, strict=True))
        frequency = np.concatenate([frequency, hz])
        t60 = np.concatenate([t60, seconds])
        level = np.concatenate([level, amount])
    count, hardest_ms = len(frequency), 1.6 if is_kick else 0.9
    level *= rng.choice([-1.0, 1.0], count)
    voice = _voice_of(drum.piece, frequency, t60, level, hardest_ms, rate, rng)
    level = level * voice.gains
    positions = rng.normal(1.0, 0.16, (len(own), count))
    positions[:, 0] = np.abs(rng.normal(1.0, 0.05, len(own)))
    onsets, forces, contacts = _hits_in(own, rate, 3.2, hardest_ms)

    if is_kick:
        # The front head answers to the air between the heads: its lowest modes, a little later.
        front = np.where(np.arange(count) < 3, 1.1, 0.7)
        output = np.stack([level, level * front], axis=1)
    else:
        output = level[:, None]
    bank = Bank(frequency, t60, output)
    sounds = strike(bank, onsets, forces, contacts, positions, frames, rate) * drum.level
    knocks = _knocks(voice, own, frames, rate, rng) * drum.level
    sounds[0] += knocks
    if is_kick:
        sounds[1] += 0.9 * knocks
        return _heads_of_kick(drum, sounds)
    if drum.sings and waking:
        sounds[0] += _sing(drum, drum.sings, waking, float(frequency[0]), frames, rate)
    parts = [Part(drum.piece, "head", drum.position, drum.radius_m, sounds[0], 0.0, True)]
    if drum.piece.startswith("snare"):
        wires = _wires(sounds[0], rate, rng) * drum.level
        x, y, z = drum.position
        parts.append(
            Part(drum.piece, "wires", (x, y, z - 0.14), drum.radius_m, wires, 0.1, answers=True)
        )
    return parts


KICK_DEPTH_M = 0.4


def _heads_of_kick(drum: Drum, sounds: NDArray[Any]) -> list[Part]:
    """The two heads of a kick, batter and front, from the sound of each ``(2, frames)``."""
    x, y, z = drum.position
    faces_from = y + KICK_DEPTH_M
    front = (x, faces_from, z)
    return [
        Part(drum.piece, "batter", drum.position, drum.radius_m, sounds[0], faces_from=faces_from),
        Part(
            drum.piece,
            "front",
            front,
            drum.radius_m,
            sounds[1],
            KICK_DEPTH_M,
            faces_from=faces_from,
        ),
    ]


def _sing(
    drum: Drum, sings: Sympathy, waking: list[PlayedHit], hz: float, frames: int, rate: int
) -> NDArray[np.float32]:
    """The head's lowest mode, set off softly through the air a few ms after each waking hit."""
    bank = Bank(np.array([hz]), np.array([sings.t60_s]), np.array([[1.4]]))
    onsets, forces, _ = _hits_in(waking, rate, 3.0, 3.0)
    contacts = np.full(len(onsets), 0.006)
    ones = np.ones((len(onsets), 1))
    moved = onsets + 0.003 * rate
    ring = strike(bank, moved, forces * sings.level, contacts, ones, frames, rate)[0]
    return ring * np.float32(drum.level)


def _voice_of(
    piece: str,
    frequency: NDArray[np.float64],
    t60: NDArray[np.float64],
    level: NDArray[np.float64],
    contact_ms: float,
    rate: int,
    rng: np.random.Generator,
) -> Voice:
    """The voice of a body with these modes, by one hard hit on it."""
    frames = round(max(window_s(piece), KNOCK_S) * rate)
    ones = np.ones((1, len(frequency)))

    def ring(gains: NDArray[np.float64]) -> NDArray[np.float64]:
        bank = Bank(frequency, t60, (level * gains)[:, None])
        contact = np.array([contact_ms / 1000])
        return strike(bank, np.zeros(1), np.ones(1), contact, ones, frames, rate)[0].astype(float)

    return voiced(piece, frequency, ring, rate, rng)


def _knocks(
    voice: Voice, own: list[PlayedHit], frames: int, rate: int, rng: np.random.Generator
) -> NDArray[np.float32]:
    """What beater, stick and shell add to each hit."""
    length = voice.knocks.shape[2]
    out = np.zeros(frames + length, np.float32)
    for s in own:
        at = int(np.ceil(s.time_s * rate))
        if 0 <= at < frames:
            force = force_of(s.velocity) * 10 ** (s.gain_db / 20)
            out[at : at + length] += force * voice.struck(s.velocity, rng)
    return out[:frames]


def _wires(head: NDArray[np.float32], rate: int, rng: np.random.Generator) -> NDArray[np.float32]:
    """Snare wires: noise that follows how fast the head moves, above a threshold of rest."""
    decay = np.exp(-1 / (0.035 * rate))
    motion = scipy.signal.lfilter([1 - decay], [1, -decay], np.abs(head)).astype(np.float32)
    driven = np.maximum(motion - 0.002 * float(motion.max(initial=1e-9)), 0)
    noise = rng.standard_normal(len(head)).astype(np.float32)
    band = scipy.signal.butter(2, [1800, min(7000, 0.45 * rate)], "bandpass", fs=rate, output="sos")
    return (scipy.signal.sosfilt(band, noise * driven) * 2.2).astype(np.float32)


def _play_cymbal(
    cymbal: Cymbal, own: list[PlayedHit], frames: int, rate: int, rng: np.random.Generator
) -> list[Part]:
    count = cymbal.partials
    top = min(20000.0, 0.44 * rate)
    frequency = np.sort(
        cymbal.lowest_hz + (top - cymbal.lowest_hz) * rng.uniform(0, 1, count) ** 1.3
    )
    t60 = cymbal.t60_s * (frequency / cymbal.lowest_hz) ** -0.35 * rng.uniform(0.6, 1.3, count)
    level = rng.uniform(0.2, 1.0, count) * 3.0 / np.sqrt(count) * rng.choice([-1.0, 1.0], count)
    voice = _voice_of(cymbal.piece, frequency, t60, level, CONTACT_MS, rate, rng)
    level = level * voice.gains
    sound = np.zeros(frames, np.float32)
    for is_open in (False, True):
        hits = [s for s in own if (s.kind == "open") is is_open]
        if not hits:
            continue
        seconds = t60 * (4.0 if is_open else 1.0)
        positions = rng.normal(0.8, 0.45, (len(hits), count))
        dull = np.array([brightness(s.velocity) for s in hits])[:, None]
        positions *= np.where(frequency > BRIGHT_HZ, dull, 1.0)
        onsets, forces, contacts = _hits_in(hits, rate, CONTACT_MS, CONTACT_MS)
        bank = Bank(frequency, seconds, level[:, None])
        sound += strike(bank, onsets, forces, contacts, positions, frames, rate)[0]
    sound += _knocks(voice, own, frames, rate, rng)
    return [Part(cymbal.piece, "plate", cymbal.position, 0.2, sound * np.float32(cymbal.level))]
