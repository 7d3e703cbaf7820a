"""The hits of one piece: every onset in its mics with its evidence, and those that are likely."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.believed import Onset, own_onsets
from arkund.core.hits.explain.ownership import Events, Signatures, standing
from arkund.core.hits.explain.reach import SAID, Reach, said_of_places
from arkund.core.hits.hear.agreed import shaped
from arkund.core.hits.hear.leading import STIRS, Onsets
from arkund.core.hits.hear.masked import Beginning, by_shape, own_places, shape_here
from arkund.core.hits.hear.novelty import BandEnergy
from arkund.core.hits.hear.slowed import Slowed, slowed
from arkund.core.hits.hear.stirs import DULL, DULL_HZ, MID_HZ, newness, stirs
from arkund.core.hits.hear.swells import swelled_as_loud
from arkund.core.hits.weigh.afar import FAMILIES, Afar
from arkund.core.hits.weigh.arrivals import arrival_of, shape_of
from arkund.core.hits.weigh.evidence import FOR, NAMES, Context, evidence
from arkund.core.kit.roles import is_shell, piece_family
from arkund.core.once import once

PARTED_S = 0.003
"""Where a drum's shape places an onset so far from where its sound seems to begin, both are weighed."""

NOT_KNOWN = 1e-7

FROM_AFAR = tuple(family for family in FAMILIES if family != "hat")
"""Families whose share from afar says something of an onset in another's mic: a hat's says nothing."""

PLACE = (
    "told by",
    "newness",
    "as loud",
    "since bleed",
    "newer by",
    "newer by, dull",
    "newness, mid",
    "as loud, mid",
    "newer by, mid",
    "as much here",
    "more alike by",
    *(f"{f} from afar" for f in FROM_AFAR),
    "own from afar",
    *SAID,
)
"""Columns that follow `evidence`'s: what tells the place (0 its sound, 1 its shape, 2 a stir, 3 its
swell, 4 a stir of its dull part), how new and how loud what begins there is, how long it is since bleed,
by how much it is newer than any other place near by, what overheads say of it, and how far it stands above
what bleed reaches there (`reach`)."""

FIRST_NAMES = (*NAMES, *PLACE)
"""All columns of the first weighing."""

SPEAKS_FOR = FOR | {
    "own from afar",
    "over bleed",
    "over bleed as near mics tell",
    "over bleed as overheads tell",
    "over the least bleed",
    "ahead of that bleed",
    "new by",
    "newness",
}
"""Columns of either kind of which more can only speak for a hit."""

DULL_STIR = 4
"""What tells a place: its dull part."""

FAR_LAG_MS = 15.0

RIVAL_S = 0.016
"""Places so near are rivals: one of them at most is where a hit begins."""


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
    reach: Reach | None = None

    @once
    def slow(self) -> Slowed:
        """The sound in fewer samples, computed once."""
        return slowed(self.sound, self.rate)

    @once
    def shaped(self) -> Slowed:
        """The band of it that tells hits of a snare from one another, computed once."""
        return shaped(self.slow)


@dataclass(frozen=True)
class Weighed:
    """Onsets of one piece: where each begins in samples (``place``), its level in dB against the
    piece's loud hits, and its row of ``evidence``."""

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
    slow = heard.slow if is_shell(heard.piece) else None
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
    """Where each onset begins if it swells as the drum's clear hits do, a soft one as its soft ones;
    NaN if these do not."""
    if not is_shell(heard.piece):
        return np.full(len(plain), np.nan)
    sure = sorted((o for o in first if o.trust == "sure"), key=lambda o: -o.clear_db)
    clear = [(known[o.frame], o.level_db) for o in sure]
    return swelled_as_loud(heard.sound, plain, level_db, clear, heard.rate)


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
        hits=np.append(signatures.hits, 0),
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
    said = _said_of_places(heard, place, slow, body, shape)
    columns = [told_by, *said[:2], _since_bleed(heard, place, every), *said[2:]]
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
    whole sound and in a drum's middle, how much it is like the drum's ``shape``, and by how much that
    exceeds what is said of rivals; what overheads say, and how far it stands above bleed."""
    unheard = np.full(len(place), np.nan)
    new_db, loud_db = newness(heard.sound, place, heard.rate)
    dull_db, mid_db = unheard, (unheard, unheard)
    if slow is not None and body is not None:
        at = place / slow.step
        dull_db, _ = newness(body, at, slow.rate, DULL)
        mid_db = newness(slow.within(MID_HZ), at, slow.rate, DULL)
    alike, much_db = (unheard, unheard) if shape is None else shape_here(shape, place, heard.rate)
    near = RIVAL_S * heard.rate
    newer, newer_dull, newer_mid, more_alike = newer_by(
        place, (new_db, dull_db, mid_db[0], alike), near
    )
    bleed = (
        said_of_places(heard.reach, heard.piece, place / heard.rate)
        if heard.reach is not None
        else [unheard] * len(SAID)
    )
    return [
        new_db,
        loud_db,
        newer,
        newer_dull,
        *mid_db,
        newer_mid,
        much_db,
        more_alike,
        *_from_afar(heard, place),
        *bleed,
    ]


def _from_afar(heard: Heard, place: NDArray[np.float64]) -> list[NDArray[np.float64]]:
    """What overheads say of each place: the shares of `FROM_AFAR`, then of the piece's own family."""
    given = None if heard.afar is None else heard.afar.at(place / heard.rate)
    if given is None:
        given = np.full((len(place), len(FAMILIES)), np.nan)
    family = piece_family(heard.piece)
    own = given[:, FAMILIES.index(family)] if family in FAMILIES else np.full(len(place), np.nan)
    return [*(given[:, FAMILIES.index(f)] for f in FROM_AFAR), own]


def newer_by(
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
