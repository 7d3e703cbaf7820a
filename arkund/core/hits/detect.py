"""From the mics of one take to its list of hits."""

import hashlib
from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.arrival import first_arrival
from arkund.core.hits.confidence import confidence
from arkund.core.hits.cymbals import tell_apart
from arkund.core.hits.far_cymbal import CYMBAL
from arkund.core.hits.leading import onsets_of
from arkund.core.hits.masked import CLEAR_DB, by_shape, own_place, shared_beginning, told_by_shape
from arkund.core.hits.novelty import BANDS, BRIGHT, BandEnergy, band_energy, candidates
from arkund.core.hits.ownership import Events, Signatures, Standing, event_vectors, standing
from arkund.core.hits.rolls import find_buzzes, runs_of_singles
from arkund.core.hits.signatures import learn_signatures
from arkund.core.hits.whole import whole_kit
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, piece_family, sort_pieces

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
    trust: (
        str  # sure, own, perhaps; of a piece whose soft strokes never stand clear: soft, unlikely
    )
    alone: bool  # begins when nothing bleeds


@dataclass(frozen=True)
class _Take:
    """What is listened to: the ``mics`` by position with their ``bands`` and candidates
    (``found``), which of them are close to each piece (``own``) and which are ``overheads``; of
    each piece in ``own`` the ``nearest`` mic's sound as its onsets are looked for in it, and which
    of these stand ``far`` from their drum."""

    mics: list[NDArray[np.float32]]
    bands: list[BandEnergy]
    found: list[NDArray[np.int64]]
    own: dict[str, list[int]]
    overheads: list[int]
    nearest: list[NDArray[np.float32]]
    rate: int
    far: tuple[int, ...]

    @property
    def hop(self) -> int:
        return self.bands[0].hop


def detect_hits(mics: Mapping[str, NDArray[np.float32]], rate: int) -> list[Hit]:
    """Hits of one take, sorted by time.

    ``mics`` maps mic names (`arkund.core.kit.roles`) to mono signals ``(frames,)`` of one rate.
    Rooms, overdubs, beds and clicks are not listened to. Where no mic is close to any piece, one
    that hears the whole kit is (`whole`). Returns an empty list where nothing is played.
    """
    take = _listen(mics, rate)
    frames = _merged(take.found) if take.own else np.zeros(0, np.int64)
    if len(frames) == 0:
        return _hits_of_whole_kit(mics, rate)
    signatures = learn_signatures(
        event_vectors(take.bands, frames, take.overheads), take.own, take.overheads,
        onsets_of(take.nearest, frames * take.hop, rate, take.far),
    )  # fmt: skip
    with ThreadPoolExecutor(2) as pool:
        timed = list(pool.map(partial(_strokes_of, take, signatures), signatures.pieces))
    hits: list[Hit] = []
    for piece, strokes in zip(signatures.pieces, timed, strict=True):
        if piece == CYMBAL:
            hits += _cymbals(strokes, hits, [take.bands[m] for m in take.overheads], set(take.own))
        else:
            hits += _as_hits(piece, strokes)
    hits = _with_rolls(take, hits)
    hits.sort(key=lambda h: (h.time_s, h.piece))
    return hits


def _with_rolls(take: _Take, hits: list[Hit]) -> list[Hit]:
    """The hits with what stands for buzz rolls on snares, and without cymbals in rolls, for which
    both hands are needed."""
    for piece in [p for p in take.own if piece_family(p) == "snare"]:
        own = [h for h in hits if h.piece == piece]
        overhead = take.bands[take.overheads[0]] if take.overheads else None
        loud = [h.time_s for h in own if h.kind == "accent"]
        rolls = runs_of_singles([h.time_s for h in own])
        for buzz in find_buzzes(take.bands[take.own[piece][0]], overhead, loud):
            begin, end = buzz.times_s[0], buzz.times_s[-1]
            rolls.append((begin, end))
            inside = [h for h in own if begin - SAME_STROKE_S <= h.time_s <= end + SAME_STROKE_S]
            if _reaches(inside, begin, end):
                continue
            hits = [replace(h, kind="roll") if h in inside else h for h in hits]
            known = np.array([h.time_s for h in inside])
            hits += [
                Hit(hit_id(piece, at), piece, round(at, 6), velocity_of(level), "roll",
                    ROLL_CONFIDENCE, round(level, 2))
                for at, level in zip(buzz.times_s, buzz.levels_db, strict=True)
                if _distance_s(known, at) > SAME_STROKE_S
            ]  # fmt: skip
        hits = [
            h for h in hits if is_shell(h.piece)
            or not any(b + (OTHER_HAND_S if h.piece in take.own else -RINGS_S) < h.time_s
                       < e + OTHER_HAND_S for b, e in rolls)
        ]  # fmt: skip
    return hits


RINGS_S = 0.06
"""What seems to ring of a cymbal without a mic, struck so little before a roll, is the roll."""

LONGEST_HOLE_S = 0.12
ROLL_CONFIDENCE = 0.6


def _reaches(strokes: list[Hit], begin: float, end: float) -> bool:
    """Whether strokes fill a roll without a hole."""
    times = np.array([begin, *(h.time_s for h in strokes), end])
    return bool(np.diff(np.sort(times)).max() <= LONGEST_HOLE_S)


def _listen(mics: Mapping[str, NDArray[np.float32]], rate: int) -> _Take:
    """Bands and candidates of the close mics and overheads that are alive."""
    names = [m for m in mics if parse_mic_name(m).is_close or parse_mic_name(m).role == "overhead"]
    with ThreadPoolExecutor(2) as pool:
        bands = list(pool.map(lambda m: band_energy(mics[m], rate), names))
        alive = [n for n, b in enumerate(bands) if len(b.energy) >= SHORTEST and _is_alive(b)]
        names, bands = [names[n] for n in alive], [bands[n] for n in alive]
        pieces = sort_pieces(p for m in names if (p := parse_mic_name(m).piece))
        own = {p: [names.index(m) for m in close_mics(names, p)] for p in pieces}
        overheads = [i for i, m in enumerate(names) if parse_mic_name(m).role == "overhead"]
        cymbals = {m[0] for p, m in own.items() if not is_shell(p)}
        listening = {m[0] for m in own.values()} | set(overheads)
        nothing = np.zeros(0, np.int64)
        found = list(pool.map(
            lambda n: candidates(bands[n], lowest=BRIGHTEST if n in cymbals else 2)
            if n in listening else nothing, range(len(names))
        ))  # fmt: skip
        nearest = list(pool.map(
            lambda p: mics[names[own[p][0]]] if is_shell(p)
            else _without_drums(mics[names[own[p][0]]], rate), pieces,
        ))  # fmt: skip
    far = tuple(n for n, p in enumerate(pieces) if parse_mic_name(names[own[p][0]]).role in FAR)
    return _Take([mics[m] for m in names], bands, found, own, overheads, nearest, rate, far)


def _strokes_of(take: _Take, signatures: Signatures, piece: str) -> list[tuple[float, _Onset]]:
    """Onsets of one piece with their times in s."""
    ears = take.own.get(piece, take.overheads)
    at = take.found[ears[0]] if piece in take.own else _merged([take.found[m] for m in ears])
    events = event_vectors(take.bands, at, take.overheads)
    alone = bleeds = np.zeros(len(at), bool)
    if piece in take.own:
        begins = onsets_of(take.nearest, at * take.hop, take.rate)
        ear = list(take.own).index(piece)
        ways_s = {n: signatures.ways_s.get((piece, q)) for n, q in enumerate(take.own)
                  if q != piece and q in signatures.pieces}  # fmt: skip
        alone = begins.untimely(ear, ways_s)
        for other, way_s in ways_s.items():
            bleeds = bleeds | begins.timely(ear, other, way_s)
    number = signatures.pieces.index(piece)
    own_bands = [take.bands[m] for m in ears]
    onsets = _own_onsets(events, at, signatures, number, own_bands, alone, bleeds)
    return _timed(piece, onsets, take.mics[ears[0]], take.hop, take.rate)


def _hits_of_whole_kit(mics: Mapping[str, NDArray[np.float32]], rate: int) -> list[Hit]:
    """Hits of a kit that is heard by overheads or one mic alone."""
    names = [m for m in mics if parse_mic_name(m).role in ("overhead", "kit")]
    if not names:
        return []
    sound: NDArray[np.float32] = np.stack([mics[m] for m in names]).mean(axis=0, dtype=np.float32)
    if len(sound) < SHORTEST * rate / 1000:
        return []
    hits = []
    bands = band_energy(sound, rate)
    for piece, strokes in whole_kit(bands).items():
        ear = sound if is_shell(piece) else _without_drums(sound, rate)
        timed = []
        for frame, level_db, excess_db in strokes:
            at = first_arrival(ear, (frame - 7) * bands.hop, (frame + 6) * bands.hop)
            onset = _Onset(frame, level_db, excess_db, float(bands.rise[frame]), 0.0, "sure", True)
            timed.append((at / rate, onset))
        hits += _as_hits(piece, sorted(timed, key=lambda pair: pair[0]), "whole")
    hits.sort(key=lambda h: (h.time_s, h.piece))
    return hits


BRIGHTEST = BANDS - 2
"""The first of the bands in which a cymbal's mic hears it before what bleeds."""

FAR = ("kick_out", "kick_sub")
"""Mics before a drum rather than at its head, which others may hear first."""

SHORTEST = 64
"""Fewer milliseconds of sound hold no stroke that could be told."""

OTHER_HAND_S = 0.02
"""Within this time of a stroke on a cymbal with a mic, what rings is that one."""


def _cymbals(
    timed: list[tuple[float, _Onset]], hits: list[Hit], overheads: list[BandEnergy], miced: set[str]
) -> list[Hit]:
    """Strokes of cymbals without mics, told apart.

    Where a cymbal with a mic is struck, what rings is that one, open: the hand that strikes it is
    on no other.
    """
    taken = np.array([h.time_s for h in hits if not is_shell(h.piece)])
    drums = np.array([h.time_s for h in hits if is_shell(h.piece)])
    free = [
        (at, o) for at, o in timed
        if _distance_s(taken, at) > OTHER_HAND_S and not _rings_of_next(drums, at)
    ]  # fmt: skip
    snares = np.array([h.time_s for h in hits if piece_family(h.piece) == "snare"])
    with_snare = np.array([_distance_s(snares, at) < OTHER_HAND_S for at, _ in free], bool)
    frames = np.array([o.frame for _, o in free], np.int64)
    ringing = event_vectors(overheads, frames, range(len(overheads))).started
    left, right = ringing[-2 * len(overheads) :][:2].sum(axis=0), ringing[-2:].sum(axis=0)
    names = tell_apart(
        [at for at, _ in free], np.array([o.level_db for _, o in free]),
        10 * np.log10(left / right), with_snare, "ride" in miced, "crash_1" in miced,
    )  # fmt: skip
    return [
        hit for name in sorted(set(names))
        for hit in _as_hits(
            name, [pair for pair, n in zip(free, names, strict=True) if n == name], "far"
        )
    ]  # fmt: skip


NEXT_S = (0.012, 0.055)
"""What rings after a grace note is the stroke that follows within this time."""


def _rings_of_next(drums: NDArray[np.float64], at: float) -> bool:
    """Whether a drum is struck so soon after ``at``, and none with it, that the ring is its."""
    after = drums - at
    soon = ((after > NEXT_S[0]) & (after < NEXT_S[1])).any()
    return bool(soon and _distance_s(drums, at) > NEXT_S[0])


def _distance_s(times: NDArray[np.float64], at: float) -> float:
    """Distance in s to the nearest of ``times``, infinite where there is none."""
    return float(np.abs(times - at).min(initial=np.inf))


DEAD_DB = 14.0
"""Range from a mic's noise to its loudest moment under which it hears nothing."""


def _is_alive(bands: BandEnergy) -> bool:
    """Whether a mic hears more than its own noise: a dead one says nothing about who was struck."""
    total = bands.smooth.sum(axis=1)
    return bool(total.max(initial=0.0) > 10 ** (DEAD_DB / 10) * bands.floor.sum())


def _merged(lists: list[NDArray[np.int64]], apart: int = 8) -> NDArray[np.int64]:
    """All frames in order, without those that follow another within ``apart`` frames."""
    frames = np.unique(np.concatenate(lists)) if lists else np.zeros(0, np.int64)
    kept: list[int] = []
    for frame in frames:
        if not kept or frame - kept[-1] >= apart:
            kept.append(int(frame))
    return np.array(kept, np.int64)


TIMELY_DB = 4.0
"""How much more excess is asked for of what begins just when another's bleed does."""

OWN_DB = -10.0
"""Level from which a stroke that is not clear of bleed is looked at by its shape, or believed by
its time."""

UNDER_DB = -2.0
"""How far what begins when nothing bleeds may fall short of the bleed that is predicted."""

MOST_OF_CYMBAL_DB = 4.5
"""As much excess as is asked of a cymbal: its mic is full of the snare, yet the two differ in the
bright bands alone."""

SOFT_CYMBAL_DB = -10.5
RINGS_DB = 1.0
"""How much more is asked of what only rings in the overheads."""

ALL_OVER_DB = 2.5
"""A drum fills all bands of its mic: what exceeds bleed in a few only is no stroke of it."""


def _own_onsets(
    events: Events, at: NDArray[np.int64], signatures: Signatures, piece: int,
    ears: list[BandEnergy], alone: NDArray[np.bool_], bleeds: NDArray[np.bool_],
) -> list[_Onset]:  # fmt: skip
    """Those of the candidates that this piece must have caused, and soft ones that it may have.

    The piece must account for most of what starts in its own mics, where bleed that the other
    pieces predict is not enough; and the stroke must stand above the piece's own rubbish level.
    ``alone`` and ``bleeds`` say which candidates begin when nothing bleeds in, and which just when
    something does.
    """
    name, it = signatures.pieces[piece], standing(events, signatures, piece)
    shell = is_shell(name)
    # Ghosts are looked for close to what bleeds; other strokes only above all that may bleed,
    # unless they begin when nothing bleeds.
    excess = np.where((name in ("kick", "snare")) | alone, it.excess_db, it.clear_db)
    level = it.level_db - _loud_db(it, shell)
    rise = np.max([ear.rise[np.minimum(at, len(ear.energy) - 1)] for ear in ears], axis=0)
    floor = -34.0 if shell else -20.0
    clear = _clear_db(it, signatures.own_rows[name])
    fills = ~np.bool_(shell) | (np.median(it.over_db, axis=0) > ALL_OVER_DB)
    needed, strictly = _needed_excess(level, excess, alone & fills)
    if name == CYMBAL:
        strictly = needed + RINGS_DB
    elif not shell:
        needed = np.minimum(needed, MOST_OF_CYMBAL_DB)
        strictly = np.where(level > SOFT_CYMBAL_DB, needed, strictly)
    last = "unlikely" if (strictly > needed).any() else "perhaps"
    timely = bleeds * (TIMELY_DB / 2 if piece_family(name) == "tom" else TIMELY_DB)
    needed, strictly = needed + timely, strictly + timely
    # A loud stroke that begins as its drum's others do is never explained away.
    own = (level > OWN_DB) & (it.excess_db > 0) & shell
    early = alone & fills & (level > OWN_DB) & (it.excess_db > UNDER_DB) & ~own
    trust = np.select(
        [(excess > strictly) | early, own, excess > needed, excess > PERHAPS_DB],
        ["sure", "own", "soft", last], "",
    )  # fmt: skip
    return [
        _Onset(int(at[i]), float(level[i]), float(excess[i]), float(rise[i]), float(clear[i]),
               str(trust[i]), bool(alone[i]))
        for i in np.flatnonzero((trust != "") & (level > floor))
    ]  # fmt: skip


def _loud_db(it: Standing, shell: bool) -> float:
    """Level of a piece's loud strokes.

    A tom struck twice is as loud as these two strokes, not as what bleeds into its mic all the
    while.
    """
    loudest = np.sort(it.level_db)
    loud = float(loudest[-max(4, len(loudest) // 50) :].mean())
    clear = np.sort(it.level_db[it.clear_db >= DOUBTFUL_DB])[-4:]
    return max(loud, float(clear.mean())) if shell and len(clear) else loud


def _clear_db(it: Standing, own: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far each event exceeds bleed in the bright bands of the piece's nearest mic."""
    nearest = own[0] // BANDS
    bright = (it.rows // BANDS == nearest) & (it.rows % BANDS >= BRIGHT)
    return it.over_db[bright].max(axis=0, initial=-np.inf)


def _needed_excess(
    level: NDArray[np.float64], excess: NDArray[np.float64], alone: NDArray[np.bool_]
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
    needed += np.where(alone, -1.0, 3.5) * np.clip((level - LOUD_DB) / 5, 0, 1)
    if soft_seen:
        return needed, needed
    least = np.where(alone, needed, np.where(level < -10.5, 13.0, 6.0))
    return needed, np.maximum(needed, least)


MANY_SOFT = 6
"""So many soft strokes, and most of what may be one, must begin as the drum's loud ones do for all
of them to be believed; fewer must each be as good as the same."""

THE_SAME = 0.85

DOUBTFUL_DB = 12.0
"""Excess under which a stroke must also begin as the drum's others do, by `LEAST_ALIKE`."""

CLEAR_ALONE_DB = 7.0
"""The same of one that begins when nothing bleeds."""

BRIGHT_DB = 6.5
"""A tom under another drum is not alike, for the lows are that one's; so far over bleed in a bright
band of its nearest mic, it need not be."""

LEAST_ALIKE = 0.62
LEAST_ALIKE_OF_FEW = 0.82
"""A drum that is struck a few times is far more often heard by bleed than struck."""

MANY_LOUD = 12
"""Sure strokes from which on their shape can tell soft ones: a tom struck a few times, always with
the kick, begins as the kick does."""


MANY_ALONE = 6
"""So many strokes that begin when nothing bleeds tell how a drum's strokes begin."""


def _timed(
    piece: str, onsets: list[_Onset], ear: NDArray[np.float32], hop: int, rate: int
) -> list[tuple[float, _Onset]]:
    """Onsets with their first arrivals in s, by time; of those that are not sure the ones whose
    shape tells."""
    reach = round(0.0014 * rate)
    share, later = 0.1, 4
    if not is_shell(piece):
        ear, share, later = _without_drums(ear, rate), 0.3, 5

    def plain(onset: _Onset) -> float:
        return first_arrival(
            ear, (onset.frame - 7) * hop, (onset.frame + later) * hop, reach, share
        )

    timed = [(plain(o), o) for o in onsets if o.trust == "sure"]
    beginning = None
    if is_shell(piece):
        # What begins when nothing bleeds is the drum's own, however little it exceeds bleed.
        known_ones = [(plain(o), o) for o in onsets if o.alone and o.trust in ("sure", "own")]
        clear = np.full(len(known_ones), CLEAR_DB)
        if len(known_ones) < MANY_ALONE or piece_family(piece) == "tom":
            known_ones = sorted({*known_ones, *timed}, key=lambda pair: pair[0])
            clear = np.array([o.clear_db for _, o in known_ones])
        beginning = shared_beginning(ear, rate, [at for at, _ in known_ones], clear)
    if beginning is not None:
        likely = [(told_by_shape(beginning, o.frame * hop, rate), o)
                  for o in onsets if o.trust not in ("sure", "own")]  # fmt: skip
        soft = [told for told, o in likely if o.trust == "soft"]
        known, is_tom = len(timed) >= MANY_LOUD, piece_family(piece) == "tom"
        many = known and sum(map(bool, soft)) >= max(MANY_SOFT, len(soft) / 2)
        least = LEAST_ALIKE if known else LEAST_ALIKE_OF_FEW
        timed = [
            (own_place(beginning, o.frame * hop, at, rate), o)
            for at, o in timed
            if o.excess_db >= (CLEAR_ALONE_DB if o.alone else DOUBTFUL_DB)
            or (is_tom and o.clear_db >= BRIGHT_DB and o.excess_db >= BRIGHT_DB - 1.5)
            or (found := by_shape(beginning, o.frame * hop, rate)) is None
            or found.alike >= least
        ]
        for onset in (o for o in onsets if o.trust == "own"):
            found = by_shape(beginning, onset.frame * hop, rate)
            if found and found.alike >= (THE_SAME - 0.05 if onset.alone else THE_SAME):
                timed.append((own_place(beginning, onset.frame * hop, plain(onset), rate), onset))
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


def _without_drums(audio: NDArray[np.float32], rate: int) -> NDArray[np.float32]:
    """What is left above 5 kHz, where a cymbal is heard to begin though a drum just did."""
    highpass = scipy.signal.butter(4, min(5000.0, 0.36 * rate), "highpass", fs=rate, output="sos")
    high: NDArray[np.float32] = scipy.signal.sosfilt(highpass, audio).astype(np.float32)
    return high


def _as_hits(piece: str, timed: list[tuple[float, _Onset]], heard: str = "close") -> list[Hit]:
    """Hits from onsets by time, of which those within `SAME_STROKE_S` are one."""
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
            confidence=confidence(piece, onset.excess_db, onset.rise, heard),
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
