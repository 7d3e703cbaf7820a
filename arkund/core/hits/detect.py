"""From the mics of one take to its list of hits."""

import hashlib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.novelty import BandEnergy, band_energy, candidates
from arkund.core.hits.ownership import (
    Events,
    Signatures,
    event_vectors,
    excess_db,
    learn_signatures,
)
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, sort_pieces

LEAST_EXCESS_DB = 4.5
"""How far a stroke must exceed the bleed that is predicted where it is seen."""

SOFT_DB = -18.0
"""Below this level, against loud strokes, ever more excess is asked for."""

SAME_STROKE_S = 0.030
"""Two onsets of one piece closer than this are one hit (a flam, if both are strong)."""


@dataclass(frozen=True)
class Hit:
    """One stroke. ``time_s`` is the first arrival at the piece's nearest close mic (else at the
    nearest mic) in the source file; ``velocity`` 1–127; ``level_db`` its energy in dB against a
    typical loud stroke of the piece; ``grace_s`` how long before it its grace note fell."""

    id: str
    piece: str
    time_s: float
    velocity: int
    kind: str
    confidence: float
    level_db: float
    grace_s: float | None = None


@dataclass(frozen=True)
class _Onset:
    frame: int
    level_db: float
    excess_db: float
    rise: float


def detect_hits(mics: Mapping[str, NDArray[np.float32]], rate: int) -> list[Hit]:
    """Hits of one take, sorted by time.

    ``mics`` maps mic names (`arkund.core.kit.roles`) to mono signals ``(frames,)`` of one rate.
    Rooms, overdubs, beds and clicks are not listened to. Returns an empty list where no mic is
    close to any piece or nothing is played.
    """
    usable = [m for m in mics if parse_mic_name(m).is_close or parse_mic_name(m).role == "overhead"]
    with ThreadPoolExecutor(2) as pool:
        bands = list(pool.map(lambda m: band_energy(mics[m], rate), usable))
    pieces = sort_pieces(p for m in usable if (p := parse_mic_name(m).piece))
    own_mics = {p: [usable.index(m) for m in close_mics(usable, p)] for p in pieces}
    overheads = [i for i, m in enumerate(usable) if parse_mic_name(m).role == "overhead"]
    if not pieces or min(len(b.energy) for b in bands) < 64:
        return []

    listening = sorted({m[0] for m in own_mics.values()} | set(overheads))
    found = {m: candidates(bands[m]) for m in listening}
    frames = _merged(list(found.values()))
    if len(frames) == 0:
        return []
    signatures = learn_signatures(event_vectors(bands, frames, overheads), own_mics, overheads)

    hits: list[Hit] = []
    for number, piece in enumerate(signatures.pieces):
        ears = own_mics.get(piece, overheads)
        at = found[ears[0]] if piece in own_mics else _merged([found[m] for m in overheads])
        events = event_vectors(bands, at, overheads)
        onsets = _own_onsets(events, at, signatures, number, [bands[m] for m in ears])
        nearest = [mics[usable[m]] for m in ears]
        hits += _as_hits(piece, onsets, nearest, bands[0].hop, rate)
    ears_of = {p: mics[usable[own_mics[p][0]]] for p in pieces}
    hits = _part_coincident(hits, ears_of, rate)
    hits.sort(key=lambda h: (h.time_s, h.piece))
    return hits


def _merged(lists: list[NDArray[np.int64]], apart: int = 8) -> NDArray[np.int64]:
    """All frames in order, without those that follow another within ``apart`` frames."""
    frames = np.unique(np.concatenate(lists)) if lists else np.zeros(0, np.int64)
    kept: list[int] = []
    for frame in frames:
        if not kept or frame - kept[-1] >= apart:
            kept.append(int(frame))
    return np.array(kept, np.int64)


def _own_onsets(
    events: Events, at: NDArray[np.int64], signatures: Signatures, piece: int,
    ears: list[BandEnergy],
) -> list[_Onset]:  # fmt: skip
    """Those of the candidates that this piece must have caused.

    The piece must account for most of what starts in its own mics, where bleed that the other
    pieces predict is not enough; and the stroke must stand above the piece's own rubbish level.
    """
    level, excess = excess_db(events, signatures, piece)
    level = level - np.sort(level)[-max(4, len(at) // 50) :].mean()
    rise = np.max([ear.rise[np.minimum(at, len(ear.energy) - 1)] for ear in ears], axis=0)
    floor = -34.0 if is_shell(signatures.pieces[piece]) else -20.0
    good = (excess > _needed_excess(level, excess)) & (level > floor)
    return [
        _Onset(int(at[i]), float(level[i]), float(excess[i]), float(rise[i]))
        for i in np.flatnonzero(good)
    ]


def _needed_excess(level: NDArray[np.float64], excess: NDArray[np.float64]) -> NDArray[np.float64]:
    """Excess over bleed in dB that each onset must show, by its level.

    Soft strokes are believed readily only of a piece of which some stand clear of all bleed: a
    drummer who plays ghosts leaves a few in the open.
    """
    sure = excess > 10
    soft_seen = np.sum(sure & (level < -9)) >= max(6, 0.06 * np.sum(sure))
    needed = LEAST_EXCESS_DB + 5.5 * np.clip((SOFT_DB - level) / 10, 0, 1)
    return needed if soft_seen else np.maximum(needed, np.where(level < -10.5, 13.0, 6.0))


def _as_hits(
    piece: str, onsets: list[_Onset], ears: list[NDArray[np.float32]], hop: int, rate: int
) -> list[Hit]:
    if not onsets:
        return []
    loud = float(np.percentile([o.level_db for o in onsets], 90))
    timed = []
    reach = round(0.0014 * rate)
    for onset in onsets:
        start, stop = (onset.frame - 7) * hop, (onset.frame + 4) * hop
        arrival = first_arrival(ears[0], start, stop, reach)
        timed.append((arrival / rate, onset))
    timed.sort(key=lambda pair: pair[0])
    hits: list[Hit] = []
    for time_s, onset in timed:
        level_db = onset.level_db - loud
        hit = Hit(
            id=hit_id(piece, time_s),
            piece=piece,
            time_s=round(time_s, 6),
            velocity=velocity_of(level_db),
            kind=_kind(level_db),
            confidence=round(min(1.0, onset.excess_db / 12) * min(1.0, onset.rise / 6), 3),
            level_db=round(level_db, 2),
        )
        if hits and time_s - hits[-1].time_s < SAME_STROKE_S:
            if hit.level_db <= hits[-1].level_db:
                continue
            hits.pop()
        hits.append(hit)
    return hits


CAUGHT_S = 0.004
"""A stroke timed so close to another piece's may have been caught by that one's bleed."""


@dataclass(frozen=True)
class _Caught:
    """How much later than caught (s, from, to) a stroke's own onset may be, and how many times
    steeper it must be than what caught it."""

    parted_s: tuple[float, float]
    steeper: float


BY_SHELL = _Caught((0.005, 0.026), 3.0)
BY_CYMBAL = _Caught((0.0015, 0.009), 1.4)


def _part_coincident(
    hits: list[Hit], ears: Mapping[str, NDArray[np.float32]], rate: int
) -> list[Hit]:
    """Shell strokes that seem to fall together with others, timed again.

    Where two pieces are struck a few ms apart, the later one's mic hears the earlier first. Over a
    longer stretch its own onset, the steeper one, is told from that.
    """
    times = np.array([h.time_s for h in hits])
    out = []
    for hit in hits:
        if is_shell(hit.piece) and hit.piece in ears:
            near = [hits[i] for i in np.flatnonzero(np.abs(times - hit.time_s) < CAUGHT_S)]
            others = [h for h in near if h.piece != hit.piece]
            for how in (BY_SHELL, BY_CYMBAL):
                if any(is_shell(h.piece) == (how is BY_SHELL) for h in others):
                    hit = _timed_again(hit, ears[hit.piece], how, rate)
        out.append(hit)
    return out


def _timed_again(hit: Hit, ear: NDArray[np.float32], how: _Caught, rate: int) -> Hit:
    first, last = how.parted_s
    start = round((hit.time_s + (first if how is BY_CYMBAL else -0.002)) * rate)
    stop = round((hit.time_s + last) * rate)
    again = first_arrival(ear, start, stop, round(0.0014 * rate)) / rate
    parted = first <= again - hit.time_s <= last
    if not parted or not _steps_up(ear, hit.time_s, again, how.steeper, rate):
        return hit
    return replace(hit, time_s=round(again, 6), id=hit_id(hit.piece, again))


def _steps_up(
    ear: NDArray[np.float32], early_s: float, late_s: float, steeper: float, rate: int
) -> bool:
    """Whether the later onset is so many times steeper than the earlier."""
    reach = round(min(0.003, late_s - early_s) * rate)

    def steepest(at_s: float) -> float:
        at = max(round(at_s * rate) - reach // 4, 0)
        return float(np.abs(np.diff(ear[at : at + reach])).max(initial=0.0))

    return steepest(late_s) > steeper * steepest(early_s)


def hit_id(piece: str, time_s: float) -> str:
    """Stable id: piece and time to the millisecond, hashed."""
    return hashlib.sha1(f"{piece}@{round(time_s * 1000)}".encode()).hexdigest()[:10]


def velocity_of(level_db: float) -> int:
    """MIDI velocity of a level against the piece's loud strokes: 112 at 0 dB, half at −12 dB."""
    return int(np.clip(round(112 * 10 ** (level_db / 40)), 1, 127))


def _kind(level_db: float) -> str:
    if level_db > -3.5:
        return "accent"
    return "ghost" if level_db < -11 else "plain"
