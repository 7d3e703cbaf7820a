"""The strokes of one piece: every onset in its mics with its evidence, and those that are likely."""

import bisect
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.arrivals import arrival_of, shape_of
from arkund.core.hits.believed import own_onsets
from arkund.core.hits.evidence import NAMES, Context, evidence
from arkund.core.hits.leading import Onsets
from arkund.core.hits.masked import by_shape, own_places
from arkund.core.hits.novelty import BandEnergy
from arkund.core.hits.ownership import Events, Signatures, standing
from arkund.core.hits.verdict import probabilities
from arkund.core.kit.roles import is_shell, piece_family

LIKELY = 0.5
"""An onset is a stroke if that is likelier than not."""

PARTED_S = 0.003
"""Where a drum's shape places an onset so far from where its sound seems to begin, both are weighed."""

SAME_STROKE_S = 0.030
"""Of onsets so close to each other one is the stroke."""

FEW, ALWAYS, LATE_MS = 4, 0.95, -0.5
"""From how many strokes of a tom on it tells that other mics hear so many of them first, the median one
by so much."""

UNLIKE, SCATTERED_DB = 0.5, 6.0
"""How little alike, and how scattered about the signature, an onset is that is another's whatever the
trees say: of 59 such that they believed in development's recordings two were strokes."""

NOT_KNOWN = 1e-7


@dataclass(frozen=True)
class Heard:
    """What is listened to for one piece: the frames ``at`` of its onsets, what starts there
    (``events``) and how each nearest mic hears that begin (``begins``; this piece's is row ``ear``), the
    bands of its own mics (``ears``), the nearest one's ``sound``, and which onsets are ``alone`` and
    how many others' bleed comes just then (``bleeds``)."""

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
    first = own_onsets(heard.events, heard.at, signatures, number, list(heard.ears), heard.alone,
                       heard.bleeds > 0)  # fmt: skip
    hop, rate = heard.ears[0].hop, heard.rate
    plain = np.array([arrival_of(heard.piece, int(f), heard.sound, hop, rate) for f in heard.at])
    known = dict(zip(heard.at.tolist(), plain.tolist(), strict=True))
    shape = shape_of(heard.piece, [(known[o.frame], o) for o in first], heard.sound, rate)
    rows = evidence(heard.events, heard.at, Context(
        signatures, number, it, heard.ears, heard.begins, heard.ear, heard.alone, heard.bleeds, shape,
    ))  # fmt: skip
    if shape is None:
        return _both_places(heard, plain, np.full(len(plain), np.nan), rows)
    there, _ = by_shape(shape, heard.at * hop, rate)
    return _both_places(heard, own_places(shape, heard.at * hop, plain, rate), there, rows)


def strokes_of(heard: Heard, signatures: Signatures) -> list[Stroke]:
    """The likely ones in order; of those within `SAME_STROKE_S` the likeliest."""
    found = weighed(heard, signatures)
    share = probabilities(found.evidence)
    kept = told(heard.piece, found, share, heard.rate)
    return [
        Stroke(float(found.place[i] / heard.rate), float(found.level_db[i]), float(share[i]))
        for i in kept
    ]


def told(piece: str, found: Weighed, share: NDArray[np.float64], rate: int) -> list[int]:
    """Which onsets are strokes, by their ``share``, in order of time."""
    likely = share > LIKELY
    if is_shell(piece):
        likely &= ~_is_anothers(found.evidence)
    if piece_family(piece) == "tom":
        likely &= ~_is_bleed(found.evidence, likely)
    kept: list[int] = []
    places: list[float] = []
    candidates, apart = np.flatnonzero(likely), SAME_STROKE_S * rate
    for i in candidates[np.argsort(-share[candidates], kind="stable")]:
        place = float(found.place[i])
        at = bisect.bisect(places, place)
        if all(abs(place - other) >= apart for other in places[max(at - 1, 0) : at + 1]):
            places.insert(at, place)
            kept.insert(at, int(i))
    return kept


def _is_anothers(evidence: NDArray[np.float32]) -> NDArray[np.bool_]:
    """What begins just when another's bleed does, otherwise than the drum's strokes, and in bands that
    do not go together in them: where a leak was never learned, it exceeds what is known of it."""
    on_time, alike, scatter = (
        evidence[:, NAMES.index(name)] for name in ("on time", "alike", "scatter of bands")
    )
    out: NDArray[np.bool_] = (on_time > 0) & (alike < UNLIKE) & (scatter > SCATTERED_DB)
    return out


def _is_bleed(evidence: NDArray[np.float32], likely: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Of a tom's onsets those that other mics hear first, where that is so of nearly all that seem to
    be its strokes: the tom's own mic is the first to hear it, however full of the kick."""
    before = evidence[:, NAMES.index("mics before")] > 0
    first_ms = evidence[:, NAMES.index("first by")]
    seldom = likely.sum() > FEW and before[likely].mean() >= ALWAYS
    return before if seldom and np.median(first_ms[likely]) < LATE_MS else np.zeros_like(before)


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


def _both_places(
    heard: Heard, place: NDArray[np.float64], there: NDArray[np.float64], rows: NDArray[np.float32]
) -> Weighed:
    """Onsets where their sound begins, then those that stand elsewhere by their shape, with two more
    columns: whether it stands there by its shape, and how many ms away the other place is."""
    apart = np.nan_to_num((there - place) / heard.rate)
    two = np.flatnonzero(np.abs(apart) > PARTED_S)
    every = np.concatenate([np.arange(len(place)), two])
    told = np.arange(len(every)) >= len(place)
    other = np.where(told, -1, 1) * apart[every] * 1000
    return Weighed(
        np.concatenate([place, there[two]]),
        rows[every, NAMES.index("level")].astype(np.float64),
        np.column_stack([rows[every], told, other]).astype(np.float32),
    )
