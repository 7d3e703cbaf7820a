"""Which weighed onsets of a piece are hits: the likely ones, and of those that are rivals one."""

import bisect
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.rolls import rest_of_rolls
from arkund.core.hits.hit import SAME_HIT_S
from arkund.core.hits.weigh.evidence import NAMES
from arkund.core.hits.weigh.weighing import DULL_STIR, PLACE, RIVAL_S, Weighed
from arkund.core.kit.roles import piece_family

LIKELY = 0.5
"""An onset is a hit if that is likelier than not."""

SELDOM, SURELY = 5, 0.85
"""A tom that seems struck no more than so many times is not struck at all unless once it is as likely as
this: of toms that rest, bleed never is."""

SOFTER = 0.02
"""How much likelier, for each dB that it is softer, one of two onsets so close must be."""

WITNESSED = {"kick": -6.0, "snare": -3.5}
"""What both hear clearly, by its least level in dB: a snare's accents, for where ghosts are many a kick
in its mic is louder than six dB under its loud hits."""

WITNESSED_SHARE, WITNESSED_NEW_DB = 0.95, 10.0
"""Of lessons' onsets beyond these, 99.99 % (kick) and 99.8 % (snare) are hits."""

LESS_EXACT = 0.02
"""A place that the dull part tells is some ms late: where the sound itself is as likely, that counts."""


def witnessed(found: Weighed, least_db: float) -> NDArray[np.bool_]:
    """Which onsets both the drum's own mic and the overheads have for a hit: new and loud where its
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
    """Which onsets are hits, by their ``share`` ``(onsets,)``, 0 to 1, in order of time."""
    apart = SAME_HIT_S * rate
    level = found.level_db
    by_dull_part = found.evidence[:, len(NAMES) + PLACE.index("told by")] == DULL_STIR
    likely = share > LIKELY
    if piece_family(piece) == "snare":
        sure = found.evidence[:, len(NAMES) + PLACE.index("own from afar")] >= KNOWN_FROM_AFAR
        least = np.where(by_dull_part, LEAST_KNOWN_DULL, LEAST_KNOWN)
        likely |= _likeliest_of_rivals(found.place, share, sure & (share >= least), RIVAL_S * rate)
    rank = share - LESS_EXACT * by_dull_part
    kept = likeliest(found.place, rank, likely, apart, level)
    if piece_family(piece) == "tom" and len(kept) <= SELDOM:
        kept = kept if share[kept].max(initial=0.0) > SURELY else []
    if piece_family(piece) == "snare":
        kept = _after_graces(found, share, rate, rest_of_rolls(found.place / rate, share, kept))
    return kept


TOGETHER, LEAST_OF_IT = 0.7, 0.35
"""Where several places are in question, how likely all together, and the likeliest of them, must be."""

KNOWN_FROM_AFAR, LEAST_KNOWN, LEAST_KNOWN_DULL = 0.95, 0.2, 0.35
"""Where overheads are so sure that the drum is struck, how likely the likeliest place must be (of
lessons' places beyond these two thirds are right), and one that the dull part alone tells: that is often
a kick's bleed under a ride."""


def _likeliest_of_rivals(
    place: NDArray[np.float64],
    share: NDArray[np.float64],
    known: NDArray[np.bool_],
    near: float,
) -> NDArray[np.bool_]:
    """Which places are the likeliest of those within ``near`` where the drum is struck, though each by
    itself may not be likely: because together they are, or because it is ``known`` from afar."""
    order = np.argsort(place, kind="stable")
    at, own = place[order], share[order]
    first, last = np.searchsorted(at, at - near), np.searchsorted(at, at + near, "right")
    sums = np.concatenate([[0.0], np.cumsum(own)])
    together = (own >= LEAST_OF_IT) & (sums[last] - sums[first] >= TOGETHER)
    chosen = together | known[order]
    for n in np.flatnonzero(chosen):
        chosen[n] = own[n] >= own[first[n] : last[n]].max()
    back = np.empty_like(chosen)
    back[order] = chosen
    return back


GRACE_S, GRACE_SURE, GRACE_UNDER_DB, HIT_NEW_DB, HIT_LOUD_DB = (
    (0.006, SAME_HIT_S),
    0.9,
    -2.0,
    10.0,
    -1.5,
)
"""A grace note comes so long before its hit, which is so sure and so new even in its ring; how loud
each is against the loudest about it."""


def _after_graces(
    found: Weighed, share: NDArray[np.float64], rate: int, kept: Sequence[int]
) -> list[int]:
    """The ``kept`` onsets in order, where one is a grace note its hit instead: the level of an onset is
    read over so long a time that a grace note has its hit's."""
    newness_db, loud_db, told_by = (
        found.evidence[:, len(NAMES) + PLACE.index(name)]
        for name in ("newness", "as loud", "told by")
    )
    is_hit = (
        (share >= GRACE_SURE)
        & (newness_db >= HIT_NEW_DB)
        & (loud_db >= HIT_LOUD_DB)
        & np.isin(told_by, (0, 2))
    )
    out = set()
    for i in kept:
        after_s = (found.place - found.place[i]) / rate
        hits = np.flatnonzero(is_hit & (after_s > GRACE_S[0]) & (after_s < GRACE_S[1]))
        is_grace = len(hits) and loud_db[i] <= GRACE_UNDER_DB
        out.add(int(hits[np.argmax(share[hits])]) if is_grace else int(i))
    return sorted(out, key=lambda i: float(found.place[i]))


def likeliest(
    place: NDArray[np.float64],
    share: NDArray[np.float64],
    likely: NDArray[np.bool_],
    apart: float,
    level_db: NDArray[np.float64] | None = None,
) -> list[int]:
    """Which of the ``likely`` ones are hits, in order of place, all ``(onsets,)``: the one with the greatest ``share``
    of those less than ``apart`` from one another. With ``level_db`` a softer one must be likelier:
    of a grace note and its hit, both all but sure, the hit counts."""
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


def distances(place: NDArray[np.float64], others: NDArray[np.float64]) -> NDArray[np.float64]:
    """How far each ``place`` is from the nearest of the ``others``, ``(places,)``; infinite without any."""
    known = np.concatenate([[-np.inf], np.sort(others), [np.inf]])
    after = np.searchsorted(known, place)
    out: NDArray[np.float64] = np.minimum(known[after] - place, place - known[after - 1])
    return out
