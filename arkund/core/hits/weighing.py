"""The strokes of one piece: every onset in its mics with its evidence, and those that are likely."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.afar import FAMILIES, Afar
from arkund.core.hits.arrivals import arrival_of, shape_of
from arkund.core.hits.believed import Onset, own_onsets
from arkund.core.hits.evidence import NAMES, Context, evidence
from arkund.core.hits.leading import STIRS, Onsets
from arkund.core.hits.likeness import Likeness, likeness
from arkund.core.hits.masked import Beginning, by_shape, own_places, shape_here
from arkund.core.hits.novelty import BandEnergy
from arkund.core.hits.ownership import Events, Signatures, standing
from arkund.core.hits.slowed import Slowed, slowed
from arkund.core.hits.stirs import DULL, DULL_HZ, MID_HZ, newness, stirs
from arkund.core.hits.swells import swelled_as_loud
from arkund.core.kit.roles import is_shell, piece_family

PARTED_S = 0.003
"""Where a drum's shape places an onset so far from where its sound seems to begin, both are weighed."""

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
    "like soft strokes",
    "like loud strokes",
    "more like soft by",
    "more like loud by",
    "soft strokes usually",
    "loud strokes usually",
    "like bleed",
    "bleed usually",
    *(f"{f} from afar" for f in FAMILIES),
    "own from afar",
)
"""Columns that follow `evidence`'s: what tells the place (0 its sound, 1 its shape, 2 a stir, 3 its
swell, 4 a stir of its dull part), how far away another is in ms, how new and how loud what begins
there is, by how much newer it is than any other place near by, and what overheads say of it."""

DULL_STIR = 4
"""What tells a place: its dull part."""

FAR_LAG_MS = 15.0

RIVAL_S = 0.016
"""Places so near are rivals: one of them at most is where a stroke begins."""


@dataclass(frozen=True)
class Heard:
    """What is listened to for one piece: the frames ``at`` of its onsets, what starts there
    (``events``) and how each nearest mic hears that begin (``begins``; this piece's is row ``ear``), the
    bands of its own mics (``ears``), the nearest one's ``sound``, and which onsets are ``alone``,
    how many others' bleed comes just then (``bleeds``) and at which it may (``on_time``);
    ``ways_s`` is how long each other mic's drum takes to this one, and ``afar`` what the overheads say,
    if there are any."""

    piece: str
    at: NDArray[np.int64]
    events: Events
    begins: Onsets
    ear: int
    ears: Sequence[BandEnergy]
    sound: NDArray[np.float32]
    alone: NDArray[np.bool_]
    bleeds: NDArray[np.int64]
    on_time: NDArray[np.bool_]
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
    drum = _drum(heard, first, known, it.level_db) if is_shell(heard.piece) else None
    shape = drum.shape if drum is not None else None
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
    nowhere = np.full(len(plain), np.nan)
    if drum is None:
        return _every_place(heard, plain, nowhere, nowhere, rows, None)
    level_db = rows[:, NAMES.index("level")].astype(np.float64)
    swell = swelled_as_loud(heard.sound, plain, level_db, drum.clear, rate)
    if shape is None:
        return _every_place(heard, plain, nowhere, swell, rows, drum)
    there, _ = by_shape(shape, heard.at * hop, rate)
    first_at = own_places(shape, heard.at * hop, plain, rate)
    return _every_place(heard, first_at, there, swell, rows, drum)


@dataclass(frozen=True)
class _Drum:
    """How a drum sounds: its nearest mic in fewer samples, what is its ``body`` there, how its strokes
    begin, and which are ``clear`` (place, level in dB), the clearest first; of these its ``own`` begin
    when no bleed may, and overheads do not deny them; at the places ``bleed`` others are heard, the
    loudest first."""

    slow: Slowed
    body: NDArray[np.float32]
    shape: Beginning | None
    clear: list[tuple[float, float]]
    own: list[tuple[float, float]]
    bleed: list[float]


DENIED, SURE = 0.1, 0.95
"""Where overheads give so little to a piece, what its mic hears teaches nothing of it; where they give so
much, it does."""


def _own_from_afar(heard: Heard, place: NDArray[np.float64]) -> NDArray[np.float64] | None:
    """What overheads give to the piece at each place, 0 to 1; None where they say nothing."""
    family = piece_family(heard.piece)
    if heard.afar is None or family not in FAMILIES:
        return None
    given = heard.afar.at(place / heard.rate)
    return None if given is None else given[:, FAMILIES.index(family)]


def _drum(
    heard: Heard, first: list[Onset], known: dict[int, float], level_db: NDArray[np.float64]
) -> _Drum:
    """By the onsets that are believed ``first``, which begin at ``known`` places, and all onsets'
    levels."""
    slow = slowed(heard.sound, heard.rate)
    shape = shape_of(heard.piece, [(known[o.frame], o) for o in first], slow)
    sure = sorted((o for o in first if o.trust == "sure"), key=lambda o: -o.clear_db)
    clear = [(known[o.frame], o.level_db) for o in sure]
    plain = np.array([known[int(frame)] for frame in heard.at])
    share = _own_from_afar(heard, plain)
    denied = np.zeros(len(plain), bool) if share is None else share < DENIED
    bleeds = denied | heard.on_time
    is_sure = np.isin(heard.at, [o.frame for o in sure])
    not_own = set(heard.at[bleeds].tolist())
    own = [(known[o.frame], o.level_db) for o in sure if o.frame not in not_own]
    if share is not None:
        loud_db = np.sort(level_db)[-4:].mean()
        more = np.flatnonzero((share >= SURE) & ~is_sure)
        own += [
            (float(plain[i]), float(level_db[i] - loud_db)) for i in more[np.argsort(-share[more])]
        ]
    others = np.flatnonzero(np.where(is_sure, denied, bleeds))
    bleed = plain[others[np.argsort(-level_db[others], kind="stable")]].tolist()
    return _Drum(slow, slow.within(DULL_HZ), shape, clear, own, bleed)


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
    drum: _Drum | None,
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
    if drum is not None:
        dully, of_dully = _dull_stirs(heard, drum, place, every)
        every, place = np.concatenate([every, of_dully]), np.concatenate([place, dully])
        told_by = np.concatenate([told_by, np.full(len(dully), DULL_STIR)])
    other = np.where(told_by == 0, np.nan_to_num(by_shape - plain)[every], place - plain[every])
    said = _said_of_places(heard, place, drum)
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
    drum: _Drum | None,
) -> list[NDArray[np.float64]]:
    """The columns of `PLACE` that a place has by itself: how new and loud what begins there is in the
    whole sound, in a drum's body and in its middle, there and in its second mic, how much it is like
    the drum's shape and its clear strokes, what overheads say, and by how much all that exceeds what is
    said of rivals."""
    unheard = np.full(len(place), np.nan)
    new_db, loud_db = newness(heard.sound, place, heard.rate)
    dull_db = mid_db = second_db = unheard, unheard
    like = Likeness(unheard, unheard, unheard, np.nan, np.nan, np.nan)
    alike, much_db = unheard, unheard
    if drum is not None:
        slow, at = drum.slow, place / drum.slow.step
        dull_db = newness(drum.body, at, slow.rate, DULL)
        mid_db = newness(slow.within(MID_HZ), at, slow.rate, DULL)
        if heard.second is not None:
            second = slowed(heard.second, heard.rate).within(MID_HZ)
            second_db = newness(second, at, slow.rate, DULL)
        if drum.shape is not None:
            alike, much_db = shape_here(drum.shape, place, heard.rate)
        if piece_family(heard.piece) == "snare":
            like = likeness(slow, place, drum.own, drum.bleed)
    from_afar = np.full((len(place), len(FAMILIES)), np.nan)
    if heard.afar is not None and (given := heard.afar.at(place / heard.rate)) is not None:
        from_afar = given
    family = piece_family(heard.piece)
    own = from_afar[:, FAMILIES.index(family)] if family in FAMILIES else unheard
    said = (new_db, dull_db[0], own, *mid_db, alike, *second_db, like.soft, like.loud)
    newer, newer_mid, more_alike, newer_second, more_like = np.split(
        _newer_by(place, said, RIVAL_S * heard.rate), (3, 5, 6, 8)
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
        like.soft,
        like.loud,
        *more_like,
        np.full(len(place), like.soft_usually),
        np.full(len(place), like.loud_usually),
        like.bleed,
        np.full(len(place), like.bleed_usually),
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
    heard: Heard, drum: _Drum, place: NDArray[np.float64], onset: NDArray[np.int64]
) -> tuple[NDArray[np.float64], NDArray[np.int64]]:
    """Where a drum's body begins anew about its onsets, away from every ``place`` that is there
    already, and which ``onset`` each is of."""
    step = drum.slow.step
    found, of = stirs(drum.body, heard.at * heard.ears[0].hop // step, drum.slow.rate, DULL)
    found = found * step
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
