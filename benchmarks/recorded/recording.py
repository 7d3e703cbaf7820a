"""Recorded hits in a room before mics: what each mic hears, and the truth about it."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import scipy
import soxr
from numpy.typing import NDArray

from arkund.core.kit.roles import close_mics, parse_mic_name
from arkund.core.simulate.drummer import PlayedHit
from arkund.core.simulate.kit import Part, Position
from arkund.core.simulate.room import Microphone, Room, arrival_samples, block_spectra, record
from benchmarks.recorded.kits import Kit
from benchmarks.recorded.patterns import Pattern
from benchmarks.recorded.single_hits import RATE, Sounds, struck

PLACES: dict[str, Position] = {
    "kick": (0.04, 0.56, 0.3),
    "snare": (-0.14, 0.4, 0.61),
    "tom_1": (-0.2, 0.78, 0.78),
    "tom_2": (0.16, 0.8, 0.77),
    "tom_3": (0.5, 0.42, 0.57),
    "hat": (-0.57, 0.5, 0.87),
    "ride": (0.66, 0.84, 1.08),
    "crash_1": (-0.45, 1.05, 1.18),
    "crash_2": (0.55, 1.1, 1.2),
}
LOUDNESS = {"kick": 1.0, "snare": 1.0, "tom": 0.85, "hat": 0.22, "ride": 0.2, "crash": 0.45}
"""Peak of a full hit at 1 m, by family."""

NOISE_DBFS = -78.0
AUDIBLY_NOTHING = 1e-15
"""Filters that decay to less than a number can hold become ten times slower."""


@dataclass(frozen=True)
class Recording:
    """``mics`` ``{mic: (frames,)}``; ``own`` what each close mic hears of its own piece alone;
    ``hits`` the truth, ``[{piece, time_s, kind, velocity, over_ring_db}]``, times as `detect` gives them, and how
    far each stands over what its drum still rings with (see `_parts`);
    ``spans`` of rolls as (piece, begin, end) in s."""

    mics: dict[str, NDArray[np.float32]]
    own: dict[str, NDArray[np.float32]]
    hits: list[dict[str, Any]]
    spans: list[tuple[str, float, float]]
    rate: int = RATE


def at_rate(recording: Recording, rate: int) -> Recording:
    """The recording as a session of another sample rate has it."""
    if rate == recording.rate:
        return recording

    def resampled(sounds: dict[str, NDArray[np.float32]]) -> dict[str, NDArray[np.float32]]:
        return {m: soxr.resample(sound, recording.rate, rate) for m, sound in sounds.items()}

    return replace(
        recording, mics=resampled(recording.mics), own=resampled(recording.own), rate=rate
    )


def _moved(at: Position, rng: np.random.Generator) -> Position:
    x, y, z = at
    return (
        float(x + rng.uniform(-0.05, 0.05)),
        float(y + rng.uniform(-0.05, 0.05)),
        float(z + rng.uniform(-0.05, 0.05)),
    )


@dataclass(frozen=True)
class Setup:
    """How mics are set up and what happens behind them: each of the known mics as it is here, the
    preamp's noise, a filter ``(sections, 6)`` on the desk, and how far over full scale a mic is driven
    before it clips there (dB, by mic)."""

    adjusted: Callable[[Microphone], Microphone] = lambda mic: mic
    noise_dbfs: float = NOISE_DBFS
    desk: Mapping[str, NDArray[np.float64]] = field(default_factory=dict)
    driven_db: Mapping[str, float] = field(default_factory=dict)


def make_recording(
    kit: Kit,
    pattern: Pattern,
    sounds: dict[tuple[int, int], Sounds],
    rng: np.random.Generator,
    setup: Setup | None = None,
) -> Recording:
    """Strike a kit's hits by the pattern and record them."""
    setup = setup or Setup()
    frames = round((max(s.time_s for s in pattern.hits) + 2.0) * RATE)
    places = {p: _moved(at, rng) for p, at in PLACES.items()}
    size = (
        float(6.0 * rng.uniform(0.85, 1.3)),
        float(5.4 * rng.uniform(0.85, 1.3)),
        float(2.8 * rng.uniform(0.85, 1.3)),
    )
    room = Room(
        size,
        (0.5 * size[0], 0.27 * size[1], 0.0),
        float(rng.uniform(0.3, 0.6)),
        float(rng.uniform(0.25, 0.6)),
        float(rng.uniform(0.08, 0.2)),
    )
    parts: list[Part] = []
    over_ring_db: dict[PlayedHit, float] = {}
    for drum, place in places.items():
        if part_of := [s for s in pattern.hits if s.piece == drum]:
            surfaces, clear_db = _parts(drum, place, kit, part_of, sounds, frames, rng)
            parts += surfaces
            over_ring_db |= clear_db
    spectra = block_spectra(parts, room, frames, RATE)
    known = {name: setup.adjusted(mic) for name, mic in _microphones(places, rng).items()}
    mics, own = {}, {}
    for name in pattern.mics:
        mic = known[name]
        heard = _heard(parts, mic, room, spectra, frames, pattern, rng)
        if name in setup.desk:
            heard = {
                p: scipy.signal.sosfilt(setup.desk[name], sound + AUDIBLY_NOTHING)
                for p, sound in heard.items()
            }
        total = np.sum(list(heard.values()), axis=0)
        gain = 10 ** (rng.uniform(-14, -5) / 20) / max(
            float(np.percentile(np.abs(total), 99.98)), 1e-6
        )
        gain *= 10 ** (setup.driven_db.get(name, 0.0) / 20)
        noise = rng.standard_normal(frames) * 10 ** (setup.noise_dbfs / 20)
        total = noise if name in pattern.dead else np.clip(total * gain + noise, -1, 1)
        mics[name] = total.astype(np.float32)
        piece = parse_mic_name(name).piece
        if piece in heard:
            own[name] = (heard[piece] * gain).astype(np.float32)
    if pattern.swapped:
        a, b = pattern.swapped
        mics[a], mics[b], own[a], own[b] = mics[b], mics[a], own[b], own[a]
    shift = {p: _arrival_s(p, parts, known, mics, pattern) for p in {s.piece for s in pattern.hits}}
    renamed = (
        dict(zip(pattern.swapped, pattern.swapped[::-1], strict=True)) if pattern.swapped else {}
    )
    hits = [
        {
            "piece": renamed.get(s.piece, s.piece),
            "time_s": s.time_s + shift[s.piece],
            "kind": s.kind,
            "velocity": s.velocity,
            "over_ring_db": over_ring_db[s],
        }
        for s in pattern.hits
    ]
    spans = [(p, b + shift[p], e + shift[p]) for p, b, e in pattern.spans]
    return Recording(mics, own, hits, spans)


def _arrival_s(
    piece: str,
    parts: list[Part],
    known: dict[str, Microphone],
    mics: dict[str, NDArray[np.float32]],
    pattern: Pattern,
) -> float:
    """How long a hit takes to the piece's nearest close mic that works, else the nearest mic."""
    working = [m for m in mics if m not in pattern.dead]
    ears = close_mics(working, piece)[:1] or working
    return (
        min(
            arrival_samples(p, known[m], RATE)
            for p in parts
            if p.piece == piece and not p.answers
            for m in ears
        )
        / RATE
    )


def _parts(
    piece: str,
    place: Position,
    kit: Kit,
    own: list[PlayedHit],
    sounds: dict[tuple[int, int], Sounds],
    frames: int,
    rng: np.random.Generator,
) -> tuple[list[Part], dict[PlayedHit, float]]:
    """The radiating surfaces of a piece with all its hits on them, and by hit the dB by which it alone, in
    its first `HIT_S`, exceeds what the piece rings with just before (infinite in silence)."""
    played = np.zeros(frames + 4 * RATE)
    clear_db = {}
    for s in own:
        name = f"{piece} {s.kind}" if f"{piece} {s.kind}" in kit.pieces else piece
        program, note, tuning = kit.pieces[name]
        one = struck(sounds[program, note], s.velocity, rng)
        one = np.interp(np.arange(0, len(one) - 1, tuning), np.arange(len(one)), one)
        at = round(s.time_s * RATE)
        if piece == "hat":
            played[at : at + 4 * RATE] *= _choke(len(played[at : at + 4 * RATE]))
        if s.kind == "pedal":
            # The foot closes the cymbals, and they come together once more.
            again = round(rng.uniform(0.012, 0.018) * RATE)
            played[at : at + len(one)] += 0.6 * one
            at += again
        clear_db[s] = _over_db(one[:_HIT], played[max(at - _HIT, 0) : at])
        played[at : at + len(one)] += one
    family = piece.partition("_")[0]
    sound: NDArray[np.float32] = (played[:frames] * LOUDNESS[family]).astype(np.float32)
    x, y, z = place
    if family == "kick":
        b, a = scipy.signal.butter(1, 900, fs=RATE)
        front: NDArray[np.float32] = scipy.signal.lfilter(b, a, sound).astype(np.float32)
        return [
            Part(piece, "batter", place, 0.28, sound),
            Part(piece, "front", (x, y + 0.4, z), 0.28, front, 0.4),
        ], clear_db
    if family == "snare":
        b, a = scipy.signal.butter(2, 1500, "highpass", fs=RATE)
        wires: NDArray[np.float32] = scipy.signal.lfilter(b, a, sound).astype(np.float32)
        return [
            Part(piece, "head", place, 0.18, sound, 0.0, True),
            Part(piece, "wires", (x, y, z - 0.14), 0.18, wires, 0.1, answers=True),
        ], clear_db
    size = 0.16 if family == "tom" else 0.2
    return [Part(piece, "body", place, size, sound, 0.0, family == "tom")], clear_db


HIT_S = 0.012
"""How long a hit counts as beginning."""
_HIT = round(HIT_S * RATE)


def _over_db(hit: NDArray[np.float64], ring: NDArray[np.float64]) -> float:
    peak, rest = (float(np.abs(x).max(initial=0.0)) for x in (hit, ring))
    return 20 * float(np.log10(max(peak, 1e-9) / rest)) if rest > 0 else float("inf")


def _choke(length: int) -> NDArray[np.float64]:
    """A new hit on the hat ends the one before within 25 ms."""
    return np.exp(-np.arange(length) / (0.025 * RATE))


def _microphones(places: dict[str, Position], rng: np.random.Generator) -> dict[str, Microphone]:
    """Every mic that a pattern may ask for, each set up by hand and so a little elsewhere."""

    def r(spread: float = 0.02) -> float:
        return float(rng.uniform(-spread, spread))

    def near(place: Position, dx: float, dy: float, dz: float) -> Position:
        return (place[0] + dx + r(), place[1] + dy + r(), place[2] + dz + r())

    def over(x: float) -> Position:
        return (x + r(0.1), 0.62 + r(0.1), 1.75 + r(0.1))

    kick, snare, hat, ride = (places[p] for p in ("kick", "snare", "hat", "ride"))
    front, middle = near(kick, 0, 0.4, 0), (0.0, 0.6, 0.55)
    out = [
        Microphone(
            "kick_in", near(kick, 0, 0.17, 0), kick, 0.5, 30, 15000, 3 + r(3), inside="kick"
        ),
        Microphone("kick_out", near(kick, 0, 0.56 + r(0.1), 0), front, 0.5, 25, 13000),
        Microphone(
            "snare_top", near(snare, -0.06, 0.14, 0.06), snare, 0.5, 45, presence_db=3 + r(2)
        ),
        Microphone("snare_bottom", near(snare, 0.05, -0.1, -0.25), snare, high_hz=18000),
        Microphone("hat", near(hat, -0.1, 0.1, 0.14), hat, 0.5, 80, 19000),
        Microphone("ride", near(ride, 0.07, 0.12, 0.14), ride, 0.5, 80, 19000),
        Microphone("overhead_l", over(-0.55), (-0.2, 0.6, 0.6), 0.5, 40, 19000, 2.0),
        Microphone("overhead_r", over(0.6), (0.3, 0.6, 0.6), 0.5, 40, 19000, 2.0),
        Microphone("overhead", over(0.0), middle, 0.5, 40, 19000, 1.0),
        Microphone("kit", (r(0.2), 1.9 + r(0.2), 1.1 + r(0.1)), middle, 0.5, 30, 19000, 1.0),
    ]
    beside = {"tom_1": (0.03, 0.13), "tom_2": (0.04, 0.14), "tom_3": (0.14, 0.1)}
    for tom, (dx, dy) in beside.items():
        place = near(places[tom], dx, dy, 0.065)
        out.append(Microphone(tom, place, places[tom], presence_db=2.5 + r(2)))
    return {mic.name: mic for mic in out}


def _heard(
    parts: list[Part],
    mic: Microphone,
    room: Room,
    spectra: list[list[NDArray[np.complex64]]],
    frames: int,
    pattern: Pattern,
    rng: np.random.Generator,
) -> dict[str, NDArray[np.float64]]:
    """Each piece as this mic hears it: coloured by where it stands, louder by what the pattern says."""
    heard = record(parts, mic, room, spectra, frames, RATE, rng)
    own_piece = parse_mic_name(mic.name).piece
    out: dict[str, NDArray[np.float64]] = {}
    for piece, sound in heard.items():
        gain_db = 0.0
        if own_piece and piece != own_piece:
            gain_db = pattern.bleed_db
            extra = (pattern.full_of or {}).get(mic.name)
            if extra and extra[0] == piece:
                gain_db += extra[1]
        coloured = sound.astype(np.float64)
        if piece != own_piece:
            coloured = scipy.signal.sosfilt(_colour(rng), sound + AUDIBLY_NOTHING)
        out[piece] = coloured * 10 ** (gain_db / 20)
    return out


def _colour(rng: np.random.Generator) -> NDArray[np.float64]:
    """What a drum gives off to one side and not to another: three gentle peaks and dips."""
    sections = []
    for centre in (350.0, 1600.0, 6000.0):
        hz, amount = centre * 2 ** rng.uniform(-0.8, 0.8), 10 ** (rng.normal(0, 2.5) / 40)
        w = 2 * np.pi * hz / RATE
        alpha, cos = np.sin(w) / 1.4, np.cos(w)
        b = [1 + alpha * amount, -2 * cos, 1 - alpha * amount]
        a = [1 + alpha / amount, -2 * cos, 1 - alpha / amount]
        sections.append([v / a[0] for v in b + a])
    return np.array(sections)
