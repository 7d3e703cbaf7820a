"""The strokes of one piece: every onset in its mics with its evidence, and those that are likely."""

import bisect
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.afar import FAMILIES, Afar
from arkund.core.hits.arrivals import arrival_of, shape_of
from arkund.core.hits.believed import Onset, own_onsets
from arkund.core.hits.evidence import NAMES, Context, evidence
from arkund.core.hits.leading import STIRS, Onsets
from arkund.core.hits.masked import Beginning, by_shape, own_places, shape_here
from arkund.core.hits.novelty import BandEnergy
from arkund.core.hits.ownership import Events, Signatures, standing
from arkund.core.hits.rolls import rest_of_rolls
from arkund.core.hits.slowed import Slowed, slowed
from arkund.core.hits.stirs import DULL, DULL_HZ, MID_HZ, newness, stirs
from arkund.core.hits.swells import swelled_as_loud
from arkund.core.hits.verdict import probabilities
from arkund.core.kit.roles import is_shell, piece_family

LIKELY = 0.5
"""An onset is a stroke if that is likelier than not."""

PARTED_S = 0.003
"""Where a drum's shape places an onset so far from where its sound seems to begin, both are weighed."""

SAME_STROKE_S = 0.030
"""Of onsets so close to each other one is the stroke."""

SELDOM, SURELY = 5, 0.85
"""A tom that seems struck no more than so many times is struck where it is as likely as this."""

SOFTER = 0.02
"""How much likelier, for each dB that it is softer, one of two onsets so close must be."""

WITNESSED = {"kick": -6.0, "snare": -3.5}
"""What both hear clearly, by its least level in dB: a snare's accents, for where ghosts are many a kick
in its mic is louder than six dB under its loud strokes."""

WITNESSED_SHARE, WITNESSED_NEW_DB = 0.95, 10.0
"""Of lessons' onsets beyond these, 99.99 % (kick) and 99.8 % (snare) are strokes."""

NOT_KNOWN = 1e-7

PLACE = (
    "told by",
    "other place",
    "newness",
    "as loud",
    "since bleed",
    "newness, dull",
    "as loud, dull",
    *(f"newer by{what}" for what in ("", ", dull", ", from afar")),
    "newness, mid",
    "as loud, mid",
    "newer by, mid",
    "louder by, mid",
    "as much here",
    "more alike by",
    "newness, second mic",
    "as loud, second mic",
    "newer by, second mic",
    "louder by, second mic",
    *(f"{f} from afar" for f in FAMILIES),
    "own from afar",
)
"""Columns that follow `evidence`'s: what tells the place (0 its sound, 1 its shape, 2 a stir, 3 its
swell, 4 a stir of its dull part), how far away another is in ms, how new and how loud what begins
there is, by how much newer it is than any other place near by, and what overheads say of it."""

DULL_STIR, LESS_EXACT = 4, 0.02
"""A place that the dull part tells is some ms late: where the sound itself is as likely, that counts."""

FAR_LAG_MS = 15.0

RIVAL_S = 0.016
"""Places so near are rivals: one of them at most is where a stroke begins."""


@dataclass(frozen=True)
class Heard:
    """What is listened to for one piece: the frames ``at`` of its onsets, what starts there
    (``events``) and how each nearest mic hears that begin (``begins``; this piece's is row ``ear``), the
    bands of its own mics (``ears``), the nearest one's ``sound``, and which onsets are ``alone`` and
    how many others' bleed comes just then (``bleeds``); ``ways_s`` is how long each other mic's drum
    takes to this one, and ``afar`` what the overheads say, if there are any."""

    piece: str
    at: NDArray[np.int64]
    events: Events
    begins: Onsets
    ear: int
    ears: Sequence[BandEnergy]
    sound: NDArray[np.float32]
    alone: NDArray[np.bool_]
    bleeds: NDArray[np.int64]
    rate: int
    ways_s: dict[int, float | None] = field(default_factory=dict)
    afar: Afar | None = None
    second: NDArray[np.float32] | None = None


@dataclass(frozen=True)
class Weighed:
    """Onsets of one piece: where each begins in samples (``place``), its level in dB against the
    piece's loud strokes, and its row of ``evidence``."""

    place: NDArray[np.float64]
    level_db: NDArray[np.float64]
    evidence: NDArray[np.float32]


@dataclass(frozen=True)
class Stroke:
    """A stroke: when it begins, its level in dB against the piece's loud ones, and how sure it is: of
    those at 0.9 nine in ten are right."""

    time_s: float
    level_db: float
    confidence: float


def weighed(heard: Heard, signatures: Signatures) -> Weighed:
    """Every onset with its evidence. One that the drum's shape places elsewhere than its sound seems
    to begin stands there too, with what is said of it there."""
    signatures = with_piece(signatures, heard.piece)
    number = signatures.pieces.index(heard.piece)
    it = standing(heard.events, signatures, number)
    first = own_onsets(heard.events, heard.at, signatures, number, heard.alone, heard.bleeds > 0)
    hop, rate = heard.ears[0].hop, heard.rate
    plain = np.array([arrival_of(heard.piece, int(f), heard.sound, hop, rate) for f in heard.at])
    known = dict(zip(heard.at.tolist(), plain.tolist(), strict=True))
    slow = slowed(heard.sound, rate) if is_shell(heard.piece) else None
    known_first = [(known[o.frame], o) for o in first]
    shape = shape_of(heard.piece, known_first, slow) if slow is not None else None
    rows = evidence(
        heard.events,
        heard.at,
        Context(
            signatures,
            number,
            it,
            heard.ears,
            heard.begins,
            heard.ear,
            heard.alone,
            heard.bleeds,
            shape,
        ),
    )
    level_db = rows[:, NAMES.index("level")].astype(np.float64)
    swell = _swelled(heard, plain, level_db, first, known)
    if shape is None:
        return _every_place(heard, plain, np.full(len(plain), np.nan), swell, rows, slow, None)
    there, _ = by_shape(shape, heard.at * hop, rate)
    first_at = own_places(shape, heard.at * hop, plain, rate)
    return _every_place(heard, first_at, there, swell, rows, slow, shape)


def _swelled(
    heard: Heard,
    plain: NDArray[np.float64],
    level_db: NDArray[np.float64],
    first: list[Onset],
    known: dict[int, float],
) -> NDArray[np.float64]:
    """Where each onset begins if it swells as the drum's clear strokes do, a soft one as its soft ones;
    NaN if these do not."""
    if not is_shell(heard.piece):
        return np.full(len(plain), np.nan)
    sure = sorted((o for o in first if o.trust == "sure"), key=lambda o: -o.clear_db)
    clear = [(known[o.frame], o.level_db) for o in sure]
    return swelled_as_loud(heard.sound, plain, level_db, clear, heard.rate)


MAYBE, MAYBE_APART_S = 0.15, 0.025
"""A place that is so likely may be a soft stroke of the snare: too little for the list, enough for a gate,
which would cut it. So long before or after a stroke there is no other."""


def strokes_of(heard: Heard, signatures: Signatures) -> list[Stroke]:
    """The likely ones in order; of those within `SAME_STROKE_S` the likeliest."""
    return strokes_and_maybes(heard, signatures)[0]


def strokes_and_maybes(heard: Heard, signatures: Signatures) -> tuple[list[Stroke], list[float]]:
    """`strokes_of`, and the times in s of what may be a stroke besides."""
    found = weighed(heard, signatures)
    share = probabilities(found.evidence)
    if (family := piece_family(heard.piece)) in WITNESSED:
        is_clear = witnessed(found, WITNESSED[family])
        share = np.where(is_clear, np.maximum(share, WITNESSED_SHARE), share)
    kept = told(heard.piece, found, share, heard.rate)
    strokes = [
        Stroke(float(found.place[i] / heard.rate), float(found.level_db[i]), float(share[i]))
        for i in kept
    ]
    if family != "snare":
        return strokes, []
    apart = MAYBE_APART_S * heard.rate
    away = np.abs(found.place[:, None] - found.place[kept][None, :]).min(axis=1, initial=np.inf)
    maybe = likeliest(found.place, share, (share > MAYBE) & (away > apart), apart)
    return strokes, [float(found.place[i] / heard.rate) for i in maybe]


def witnessed(found: Weighed, least_db: float) -> NDArray[np.bool_]:
    """Which onsets both the drum's own mic and the overheads have for a stroke: new and loud where its
    sound seems to begin, and surely this drum from afar. No bleed explains such a one away, however
    seldom another piece rests when it is struck."""
    own, newness_db, told_by = (
        found.evidence[:, len(NAMES) + PLACE.index(name)]
        for name in ("own from afar", "newness", "told by")
    )
    is_clear = (newness_db >= WITNESSED_NEW_DB) & (found.level_db >= least_db)
    out: NDArray[np.bool_] = is_clear & (own >= WITNESSED_SHARE) & (told_by == 0)
    return out


def told(piece: str, found: Weighed, share: NDArray[np.float64], rate: int) -> list[int]:
    """Which onsets are strokes, by their ``share``, in order of time."""
    apart = SAME_STROKE_S * rate
    level = found.level_db
    by_dull_part = found.evidence[:, len(NAMES) + PLACE.index("told by")] == DULL_STIR
    likely = share > LIKELY
    if piece_family(piece) == "snare":
        sure = found.evidence[:, len(NAMES) + PLACE.index("own from afar")] >= KNOWN_FROM_AFAR
        likely |= _likeliest_of_rivals(found.place, share, sure, RIVAL_S * rate)
    rank = share - LESS_EXACT * by_dull_part
    kept = likeliest(found.place, rank, likely, apart, level)
    if piece_family(piece) == "tom" and len(kept) <= SELDOM:
        kept = likeliest(found.place, rank, share > SURELY, apart, level)
    if piece_family(piece) == "snare":
        kept = _after_graces(found, share, rate, rest_of_rolls(found.place / rate, share, kept))
    return kept


TOGETHER, LEAST_OF_IT = 0.7, 0.35
"""Where several places are in question, how likely all together, and the likeliest of them, must be."""

KNOWN_FROM_AFAR, LEAST_KNOWN = 0.95, 0.2
"""Where overheads are so sure that the drum is struck, how likely the likeliest place must be: of
lessons' places beyond these two thirds are right."""


def _likeliest_of_rivals(
    place: NDArray[np.float64],
    share: NDArray[np.float64],
    sure: NDArray[np.bool_],
    near: float,
) -> NDArray[np.bool_]:
    """Which places are the likeliest of those within ``near`` where the drum is struck, though each by
    itself may not be likely: because together they are, or because it is ``sure`` from afar."""
    order = np.argsort(place, kind="stable")
    at, own = place[order], share[order]
    first, last = np.searchsorted(at, at - near), np.searchsorted(at, at + near, "right")
    sums = np.concatenate([[0.0], np.cumsum(own)])
    together = (own >= LEAST_OF_IT) & (sums[last] - sums[first] >= TOGETHER)
    chosen = together | (sure[order] & (own >= LEAST_KNOWN))
    for n in np.flatnonzero(chosen):
        chosen[n] = own[n] >= own[first[n] : last[n]].max()
    back = np.empty_like(chosen)
    back[order] = chosen
    return back


GRACE_S, GRACE_SURE, GRACE_UNDER_DB, STROKE_NEW_DB, STROKE_LOUD_DB = (
    (0.006, SAME_STROKE_S),
    0.9,
    -2.0,
    10.0,
    -1.5,
)
"""A grace note comes so long before its stroke, which is so sure and so new even in its ring; how loud
each is against the loudest about it."""


def _after_graces(
    found: Weighed, share: NDArray[np.float64], rate: int, kept: Sequence[int]
) -> list[int]:
    """The ``kept`` onsets in order, where one is a grace note its stroke instead: the level of an onset is
    read over so long a time that a grace note has its stroke's."""
    newness_db, loud_db, told_by = (
        found.evidence[:, len(NAMES) + PLACE.index(name)]
        for name in ("newness", "as loud", "told by")
    )
    is_stroke = (
        (share >= GRACE_SURE)
        & (newness_db >= STROKE_NEW_DB)
        & (loud_db >= STROKE_LOUD_DB)
        & np.isin(told_by, (0, 2))
    )
    out = set()
    for i in kept:
        after_s = (found.place - found.place[i]) / rate
        strokes = np.flatnonzero(is_stroke & (after_s > GRACE_S[0]) & (after_s < GRACE_S[1]))
        is_grace = len(strokes) and loud_db[i] <= GRACE_UNDER_DB
        out.add(int(strokes[np.argmax(share[strokes])]) if is_grace else int(i))
    return sorted(out, key=lambda i: float(found.place[i]))


def likeliest(
    place: NDArray[np.float64],
    share: NDArray[np.float64],
    likely: NDArray[np.bool_],
    apart: float,
    level_db: NDArray[np.float64] | None = None,
) -> list[int]:
    """Which of the ``likely`` ones are strokes, in order of place: the one with the greatest ``share``
    of those less than ``apart`` from one another. With ``level_db`` a softer one must be likelier:
    of a grace note and its stroke, both all but sure, the stroke counts."""
    if level_db is not None:
        share = share + SOFTER * np.clip(level_db, -20.0, 0.0)
    kept: list[int] = []
    places: list[float] = []
    candidates = np.flatnonzero(likely)
    for i in candidates[np.argsort(-share[candidates], kind="stable")]:
        at = bisect.bisect(places, place[i])
        if all(abs(place[i] - other) >= apart for other in places[max(at - 1, 0) : at + 1]):
            places.insert(at, float(place[i]))
            kept.insert(at, int(i))
    return kept


def with_piece(signatures: Signatures, piece: str) -> Signatures:
    """The signatures with one for ``piece`` if it has none: as loud in every row of its mics as the
    loudest there. So a drum that seems not to be struck is asked about like any other."""
    if piece in signatures.pieces:
        return signatures
    own = signatures.own_rows[piece]
    column = np.full((len(signatures.scale), 1), NOT_KNOWN)
    column[own] = 1.0 / max(len(own), 1)
    return replace(
        signatures,
        pieces=[*signatures.pieces, piece],
        matrix=np.hstack([signatures.matrix, column]),
        strokes=np.append(signatures.strokes, 0),
        spread=np.hstack([signatures.spread, np.ones(column.shape)]),
    )


def _every_place(
    heard: Heard,
    plain: NDArray[np.float64],
    by_shape: NDArray[np.float64],
    swell: NDArray[np.float64],
    rows: NDArray[np.float32],
    slow: Slowed | None,
    shape: Beginning | None,
) -> Weighed:
    """Onsets where their sound begins, then where the drum's shape places them, then wherever else
    sound begins anew about them, then where a swell began, each with `PLACE` columns besides."""
    near = PARTED_S * heard.rate
    shaped = np.flatnonzero(np.abs(by_shape - plain) > near)
    found, of = stirs(heard.sound, heard.at * heard.ears[0].hop, heard.rate)
    stirring = found.astype(np.float64)
    elsewhere = (np.abs(stirring - plain[of]) > near) & ~(np.abs(stirring - by_shape[of]) <= near)
    swelling = np.flatnonzero(np.abs(swell - plain) > near)
    every = np.concatenate([np.arange(len(plain)), shaped, of[elsewhere], swelling])
    place = np.concatenate([plain, by_shape[shaped], stirring[elsewhere], swell[swelling]])
    told_by = np.repeat(
        np.arange(4), [len(plain), len(shaped), int(elsewhere.sum()), len(swelling)]
    )
    body = slow.within(DULL_HZ) if slow is not None else None
    if slow is not None and body is not None:
        dully, of_dully = _dull_stirs(heard, slow, body, place, every)
        every, place = np.concatenate([every, of_dully]), np.concatenate([place, dully])
        told_by = np.concatenate([told_by, np.full(len(dully), DULL_STIR)])
    other = np.where(told_by == 0, np.nan_to_num(by_shape - plain)[every], place - plain[every])
    said = _said_of_places(heard, place, slow, body, shape)
    columns = [
        told_by,
        other * 1000 / heard.rate,
        *said[:2],
        _since_bleed(heard, place, every),
        *said[2:],
    ]
    return Weighed(
        place,
        rows[every, NAMES.index("level")].astype(np.float64),
        np.column_stack([rows[every], *columns]).astype(np.float32),
    )


def _said_of_places(
    heard: Heard,
    place: NDArray[np.float64],
    slow: Slowed | None,
    body: NDArray[np.float32] | None,
    shape: Beginning | None,
) -> list[NDArray[np.float64]]:
    """The columns of `PLACE` that a place has by itself: how new and loud what begins there is in the
    whole sound, in a drum's ``body`` and in its middle, there and in its second mic, how much it is like
    the drum's ``shape``, what overheads say, and by how much all that exceeds what is said of rivals."""
    unheard = np.full(len(place), np.nan)
    new_db, loud_db = newness(heard.sound, place, heard.rate)
    dull_db = mid_db = second_db = unheard, unheard
    if slow is not None and body is not None:
        at = place / slow.step
        dull_db = newness(body, at, slow.rate, DULL)
        mid_db = newness(slow.within(MID_HZ), at, slow.rate, DULL)
        if heard.second is not None:
            second = slowed(heard.second, heard.rate).within(MID_HZ)
            second_db = newness(second, at, slow.rate, DULL)
    alike, much_db = (unheard, unheard) if shape is None else shape_here(shape, place, heard.rate)
    from_afar = np.full((len(place), len(FAMILIES)), np.nan)
    if heard.afar is not None and (given := heard.afar.at(place / heard.rate)) is not None:
        from_afar = given
    family = piece_family(heard.piece)
    own = from_afar[:, FAMILIES.index(family)] if family in FAMILIES else unheard
    said = (new_db, dull_db[0], own, *mid_db, alike, *second_db)
    newer, newer_mid, more_alike, newer_second = np.split(
        _newer_by(place, said, RIVAL_S * heard.rate), (3, 5, 6)
    )
    return [
        new_db,
        loud_db,
        *dull_db,
        *newer,
        *mid_db,
        *newer_mid,
        much_db,
        *more_alike,
        *second_db,
        *newer_second,
        *from_afar.T,
        own,
    ]


def _newer_by(
    place: NDArray[np.float64], said: Sequence[NDArray[np.float64]], near: float
) -> NDArray[np.float64]:
    """By how much each of what is ``said`` of the places exceeds the most that is said of another one
    within ``near``: a row for each, NaN where there is no other."""
    order = np.argsort(place, kind="stable")
    at, rows = place[order], np.array(said)[:, order]
    first = np.searchsorted(at, at - near)
    last = np.searchsorted(at, at + near, "right")
    out = np.full(rows.shape, np.nan)
    for n, (a, b) in enumerate(zip(first, last, strict=True)):
        if b - a > 1:
            others = np.concatenate([rows[:, a:n], rows[:, n + 1 : b]], axis=1)
            out[:, n] = rows[:, n] - np.fmax.reduce(others, axis=1)
    back = np.empty_like(out)
    back[:, order] = out
    return back


def _dull_stirs(
    heard: Heard,
    slow: Slowed,
    body: NDArray[np.float32],
    place: NDArray[np.float64],
    onset: NDArray[np.int64],
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Where a drum's ``body`` begins anew about its onsets, away from every ``place`` that is there
    already, and which ``onset`` each is of."""
    found, of = stirs(body, heard.at * heard.ears[0].hop // slow.step, slow.rate, DULL)
    found = found * slow.step
    near = PARTED_S * heard.rate
    taken: dict[int, list[float]] = {}
    for at, n in zip(place.tolist(), onset.tolist(), strict=True):
        taken.setdefault(n, []).append(at)
    new = np.array(
        [
            all(abs(at - other) > near for other in taken[n])
            for at, n in zip(found.tolist(), of.tolist(), strict=True)
        ],
        bool,
    )
    return found[new].astype(np.float64), of[new]


def _since_bleed(
    heard: Heard, place: NDArray[np.float64], onset: NDArray[np.int64]
) -> NDArray[np.float64]:
    """How many ms a place lies after the nearest moment at which another drum's sound reaches the mic;
    NaN where none does so near that it was noticed."""
    out = np.full(len(place), np.nan)
    for other, way_s in heard.ways_s.items():
        if way_s is None:
            continue
        arrives = heard.begins.at[other, onset] + way_s * heard.rate
        lag = (place - arrives) / heard.rate * 1000
        heard_there = (heard.begins.sharp[other, onset] > STIRS) & (np.abs(lag) < FAR_LAG_MS)
        nearer = heard_there & ~(np.abs(out) <= np.abs(lag))
        out = np.where(nearer, lag, out)
    return out
