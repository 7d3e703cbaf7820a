"""The hits of one piece: its onsets weighed, a snare's twice, the likely ones chosen, and placed."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.again import AGAIN_NAMES, with_likeness
from arkund.core.hits.choose.choosing import (
    LIKELY,
    WITNESSED,
    WITNESSED_SHARE,
    distances,
    likeliest,
    told,
    witnessed,
)
from arkund.core.hits.explain.ownership import Signatures
from arkund.core.hits.hear.agreed import agreed
from arkund.core.hits.weigh.verdict import FILE, SNARE_FILE, Trees, kept, probabilities
from arkund.core.hits.weigh.weighing import FIRST_NAMES, Heard, Weighed, weighed
from arkund.core.kit.roles import piece_family


@dataclass(frozen=True)
class Chosen:
    """A hit: when it begins, its level in dB against the piece's loud ones, and how sure it is: of
    those at 0.9 nine in ten are right."""

    time_s: float
    level_db: float
    confidence: float


SURE_OF_DRUM = 0.6
"""How sure a hit is whose place by itself is not likely: it is in the list because overheads are sure of the
drum, or its rivals are likely together (two in three of these are right)."""

MAYBE, MAYBE_APART_S = 0.2, 0.025
"""A place that is so likely may be a soft hit of the snare: too little for the list, enough for a gate,
which would cut it. So long before or after a hit there is no other."""


def hits_of(heard: Heard, signatures: Signatures) -> list[Chosen]:
    """The likely ones in order; of those within `SAME_HIT_S` the likeliest. A snare's begin where most
    of it agree."""
    return hits_and_maybes(heard, signatures)[0]


def hits_and_maybes(heard: Heard, signatures: Signatures) -> tuple[list[Chosen], list[float]]:
    """`hits_of`, and the times in s of what may be a hit besides."""
    found = weighed(heard, signatures)
    share = first_shares(heard.piece, found)
    is_snare = piece_family(heard.piece) == "snare"
    again = with_likeness(heard, found, share) if is_snare else None
    if again is not None:
        share = _witnessed(
            heard.piece, found, probabilities(again.evidence, kept(SNARE_FILE, AGAIN_NAMES))
        )
    chosen = told(heard.piece, found, share, heard.rate)
    place = found.place[chosen]
    if is_snare:
        place = agreed(heard.shaped, place, found.level_db[chosen])
    hits = sorted(
        (
            Chosen(float(at / heard.rate), float(found.level_db[i]), _sureness(float(share[i])))
            for at, i in zip(place, chosen, strict=True)
        ),
        key=lambda hit: hit.time_s,
    )
    if not is_snare:
        return hits, []
    apart = MAYBE_APART_S * heard.rate
    away = distances(found.place, found.place[chosen])
    maybe = likeliest(found.place, share, (share > MAYBE) & (away > apart), apart)
    return hits, [float(found.place[i] / heard.rate) for i in maybe]


def _sureness(share: float) -> float:
    return share if share > LIKELY else SURE_OF_DRUM


def first_shares(piece: str, found: Weighed, trees: Trees | None = None) -> NDArray[np.float64]:
    """How likely each onset is by the first weighing; by other ``trees`` than ship, if given."""
    trees = trees or kept(FILE, FIRST_NAMES)
    return _witnessed(piece, found, probabilities(found.evidence, trees))


def _witnessed(piece: str, found: Weighed, share: NDArray[np.float64]) -> NDArray[np.float64]:
    """The shares, where what the drum's mic and the overheads both hear clearly is a hit."""
    if (family := piece_family(piece)) not in WITNESSED:
        return share
    is_clear = witnessed(found, WITNESSED[family])
    return np.where(is_clear, np.maximum(share, WITNESSED_SHARE), share)
