"""From the mics of one take to its list of hits."""

import hashlib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.masked import by_shape, own_place, shared_beginning, told_by_shape
from arkund.core.hits.novelty import BANDS, BandEnergy, band_energy, candidates
from arkund.core.hits.ownership import Events, Signatures, Standing, event_vectors, standing
from arkund.core.hits.signatures import learn_signatures
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, sort_pieces

LEAST_EXCESS_DB = 2.6
"""How far a stroke must exceed the bleed that is predicted where it is seen."""

PERHAPS_DB = 1.2
"""Excess from which a soft stroke is looked at by its shape, where it does not tell by itself."""

SOFT_DB = -18.0
"""Below this level, against loud strokes, ever more excess is asked for."""

LOUD_DB = -10.0
"""From here on more excess is asked for too."""

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

    def __hash__(self) -> int:
        # Whole lists of strokes are keys of what is remembered; two of its fields tell a stroke.
        return hash((self.id, self.time_s))


@dataclass(frozen=True)
class _Onset:
    frame: int
    level_db: float
    excess_db: float
    rise: float
    clear_db: float  # over bleed in the bright bands of the nearest mic
    trust: str  # sure, perhaps; of a piece of which no soft stroke stands clear: soft, unlikely


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
        hits += _as_hits(piece, _timed(piece, onsets, mics[usable[ears[0]]], bands[0].hop, rate))
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
    """Those of the candidates that this piece must have caused, and soft ones that it may have.

    The piece must account for most of what starts in its own mics, where bleed that the other
    pieces predict is not enough; and the stroke must stand above the piece's own rubbish level.
    """
    it = standing(events, signatures, piece)
    excess = it.excess_db
    level = it.level_db - np.sort(it.level_db)[-max(4, len(at) // 50) :].mean()
    rise = np.max([ear.rise[np.minimum(at, len(ear.energy) - 1)] for ear in ears], axis=0)
    floor = -34.0 if is_shell(signatures.pieces[piece]) else -20.0
    clear = _clear_db(it, signatures.own_rows[signatures.pieces[piece]])
    needed, strictly = _needed_excess(level, excess)
    last = "unlikely" if (strictly > needed).any() else "perhaps"
    trust = np.select([excess > strictly, excess > needed, excess > PERHAPS_DB],
                      ["sure", "soft", last], "")  # fmt: skip
    return [
        _Onset(int(at[i]), float(level[i]), float(excess[i]), float(rise[i]), float(clear[i]),
               str(trust[i]))
        for i in np.flatnonzero((trust != "") & (level > floor))
    ]  # fmt: skip


BRIGHT = 3
"""From this band on (1.2 kHz) sticks and cymbals are heard, and first arrivals seen."""


def _clear_db(it: Standing, own: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far each event exceeds bleed in the bright bands of the piece's nearest mic."""
    nearest = own[0] // BANDS
    bright = (it.rows // BANDS == nearest) & (it.rows % BANDS >= BRIGHT)
    return it.over_db[bright].max(axis=0, initial=-np.inf)


def _needed_excess(
    level: NDArray[np.float64], excess: NDArray[np.float64]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Excess over bleed in dB that each onset must show by its level, and what it must show to be
    believed by that alone.

    Soft strokes are believed readily only of a piece of which some stand clear of all bleed: a
    drummer who plays ghosts mostly leaves a few in the open.
    """
    sure = excess > 10
    soft_seen = np.sum(sure & (level < -9)) >= max(6, 0.06 * np.sum(sure))
    needed = LEAST_EXCESS_DB + 3.0 * np.clip((SOFT_DB - level) / 10, 0, 1)
    # A loud stroke stands far above bleed; one that hardly does is the bleed of a loud one.
    needed += 3.5 * np.clip((level - LOUD_DB) / 5, 0, 1)
    if soft_seen:
        return needed, needed
    return needed, np.maximum(needed, np.where(level < -10.5, 13.0, 6.0))


MANY_SOFT = 6
"""So many soft strokes, and most of what may be one, must begin as the drum's loud ones do for all
of them to be believed; fewer must each be as good as the same."""

THE_SAME = 0.85

DOUBTFUL_DB = 12.0
"""Excess under which a stroke must also begin as the drum's others do, by `LEAST_ALIKE`."""

LEAST_ALIKE = 0.62
LEAST_ALIKE_OF_FEW = 0.82
"""A drum that is struck a few times is far more often heard by bleed than struck."""

MANY_LOUD = 12
"""Sure strokes from which on their shape can tell soft ones: a tom struck a few times, always with
the kick, begins as the kick does."""


def _timed(
    piece: str, onsets: list[_Onset], ear: NDArray[np.float32], hop: int, rate: int
) -> list[tuple[float, _Onset]]:
    """Onsets with their first arrivals in s, by time; of those that are not sure the ones whose
    shape tells."""
    reach = round(0.0014 * rate)

    def plain(onset: _Onset) -> float:
        return first_arrival(ear, (onset.frame - 7) * hop, (onset.frame + 4) * hop, reach)

    timed = [(plain(o), o) for o in onsets if o.trust == "sure"]
    beginning = None
    if is_shell(piece) and timed:
        clear = np.array([o.clear_db for _, o in timed])
        beginning = shared_beginning(ear, rate, [at for at, _ in timed], clear)
    if beginning is not None:
        likely = [(told_by_shape(beginning, o.frame * hop, rate), o)
                  for o in onsets if o.trust != "sure"]  # fmt: skip
        soft = [told for told, o in likely if o.trust == "soft"]
        known = len(timed) >= MANY_LOUD
        many = known and sum(map(bool, soft)) >= max(MANY_SOFT, len(soft) / 2)
        least = LEAST_ALIKE if known else LEAST_ALIKE_OF_FEW
        timed = [
            (own_place(beginning, o.frame * hop, at, rate), o)
            for at, o in timed
            if o.excess_db >= DOUBTFUL_DB
            or (found := by_shape(beginning, o.frame * hop, rate)) is None
            or found.alike >= least
        ]
        for told, onset in likely:
            if told is None:
                if many and onset.trust == "soft":
                    at = own_place(beginning, onset.frame * hop, plain(onset), rate)
                    timed.append((at, onset))
            elif (
                many
                or onset.trust == "perhaps"
                or (known and onset.trust == "soft" and told.alike >= THE_SAME)
            ):
                timed.append((told.at, onset))
    return sorted(((at / rate, o) for at, o in timed), key=lambda pair: pair[0])


def _as_hits(piece: str, timed: list[tuple[float, _Onset]]) -> list[Hit]:
    if not timed:
        return []
    loud = float(np.percentile([o.level_db for _, o in timed], 90))
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
