"""Whether a drum is hit at all: what its mic shows over the whole song, not hit by hit.

A tom that rests still has a mic, and what bleeds into it may look like a hit each time. A drum that is
hit shows it in a way that bleed cannot: clear of all that bleed can reach (`floor.is_hit_surely`), or surely
and from the overheads too, or by itself: bleed falls with what it comes from. One that does not is not believed;
its loudest moments are for an ear (`moments`).
"""

from collections.abc import Collection, Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.floor import Clear, is_hit_surely
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import is_shell, piece_family

DOUBTED = ("kick", "snare", "tom", "hat")
"""Families that may rest for a whole song though they have a mic."""

SUREST, SURE = 90, 0.95
SEEN_BEST, SEEN = 75, 0.4
"""Where a tom is hit, these percentiles of how sure its hits are, and of how surely a tom's from afar, are
at least so high."""

SEEN_WITH_ONE = 0.7
"""A tom whose hits nearly all (`BY_ITSELF`) fall with those of one other piece must be seen so well: bleed, too, can
look sure."""

BY_ITSELF, FEWEST, SURE_TOO, SEEN_USUALLY = 0.9, 3, 0.85, 0.55
"""A tom of which less than this share of hits falls with one and the same other piece, and no fewer hits, may be less
sure (percentile `SUREST`) if overheads see half of them so well."""

ALONE, MANY, SURE_MOSTLY = 0.5, 5, 0.9
"""One of which hardly any hit falls with another piece's, and of which there are many, all but half of them as sure,
is hit though overheads do not see it. (On 190 worlds these two rules believe five toms more, all of them hit; 13 more
are left to the ear, one of them at rest.)"""

ALL_THROUGH, QUITE_SURE, SEEN_MOSTLY, CLEAR_MANY = ("kick", "snare"), 0.98, 0.85, 4
"""A kick or snare that is hit at all is hit all through a song. It shows in one of three ways: its surest hits are this
sure, overheads see half of its hits this well, or this many stand clear of bleed. (On 176 worlds every one that is hit
shows so. A kick with 6 hits and a snare with 44 do not, and both rest.)"""

FROM_AFAR = 0.3
"""Where a hat is hit, overheads give its median hit at least this share."""


def is_believed(
    piece: str,
    confidence: NDArray[np.float64],
    from_afar: NDArray[np.float64] | None,
    with_one: float = 1.0,
) -> bool:
    """Whether a piece is hit, by all of its hits: how sure each is ``(hits,)``, 0 to 1, the share that
    overheads give its family there ``(hits,)`` (None without overheads), and the largest share of them that falls
    with one other piece (`most_with_one`)."""
    family = piece_family(piece)
    if family not in DOUBTED or not len(confidence):
        return True
    if family == "hat":
        return from_afar is None or float(np.median(from_afar)) >= FROM_AFAR
    surest = float(np.percentile(confidence, SUREST))
    if from_afar is None:
        return surest >= SURE
    if family in ALL_THROUGH:
        return surest >= QUITE_SURE or float(np.median(from_afar)) >= SEEN_MOSTLY
    is_by_itself = with_one < BY_ITSELF and len(confidence) >= FEWEST
    least = SEEN if with_one < BY_ITSELF else SEEN_WITH_ONE
    is_sure = surest >= SURE and float(np.percentile(from_afar, SEEN_BEST)) >= least
    is_seen = surest >= SURE_TOO and float(np.median(from_afar)) >= SEEN_USUALLY
    is_alone = with_one <= ALONE and len(confidence) >= MANY
    return (
        is_sure
        or (is_by_itself and is_seen)
        or (is_alone and float(np.median(confidence)) >= SURE_MOSTLY)
    )


def stand_clear(piece: str, clear: Sequence[Clear]) -> bool:
    """Whether the hits of a piece that stand clear of bleed are enough to say that it is hit."""
    if piece_family(piece) in ALL_THROUGH:
        return len(clear) >= CLEAR_MANY
    return is_hit_surely(clear)


def most_with_one(times: NDArray[np.float64], others: Iterable[NDArray[np.float64]]) -> float:
    """The largest share of ``times`` in s ``(hits,)``, one at least, that falls within `TOGETHER_S` of one other
    piece's: ``others`` are theirs."""
    return max((float(_falls_with(times, theirs).mean()) for theirs in others), default=0.0)


TOGETHER_S, WITH_TOMS = 0.012, 0.8
"""Bleed comes with what it comes from; of a tom that only echoes others so many hits at least fall with other
toms. (Of 225 toms with hits on 136 worlds one was like that, and it was at rest.)"""


def only_echoes(hits: Sequence[Hit], clear: Collection[str]) -> set[str]:
    """The toms of a list that may only echo others: none of their hits is clear of bleed (toms in ``clear``
    have one), none stands alone among the shells, and most fall with another tom's."""
    shells = [h for h in hits if is_shell(h.piece)]
    toms = {h.piece for h in shells if piece_family(h.piece) == "tom"} - set(clear)
    sure = {p: np.mean([h.confidence for h in shells if h.piece == p]) for p in toms}
    out: set[str] = set()
    # The least sure first: of two that echo each other one stays.
    for piece in sorted(toms, key=lambda p: (sure[p], p)):
        own = np.array([h.time_s for h in shells if h.piece == piece])
        others = [h for h in shells if h.piece not in {piece, *out}]
        other_toms = [h.time_s for h in others if piece_family(h.piece) == "tom"]
        with_any = _falls_with(own, np.array([h.time_s for h in others]))
        with_toms = _falls_with(own, np.array(other_toms))
        if with_any.all() and with_toms.mean() >= WITH_TOMS:
            out.add(piece)
    return out


def _falls_with(own: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.bool_]:
    if not len(others):
        return np.zeros(len(own), bool)
    return np.abs(own[:, None] - others).min(axis=1) <= TOGETHER_S
