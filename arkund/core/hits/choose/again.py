"""A snare's onsets weighed a second time: how much each is like the hits that the first weighing is
sure of, and like what bleeds in."""

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.choosing import distances, told
from arkund.core.hits.weigh.evidence import NAMES
from arkund.core.hits.weigh.likeness import likeness
from arkund.core.hits.weigh.weighing import FIRST_NAMES, PLACE, RIVAL_S, Heard, Weighed, newer_by

LIKE = (
    "like soft hits",
    "like loud hits",
    "like bleed",
    "more like soft by",
    "more like loud by",
    "soft hits usually",
    "loud hits usually",
    "bleed usually",
)
"""Columns that follow those of the first weighing."""

AGAIN_NAMES = (*FIRST_NAMES, *LIKE)
"""All columns of the second."""

SURE, HARDLY = 0.8, 0.05
"""Hits so likely at first are examples; onsets that are no likelier than this are bleed."""

APART_S = 0.030
"""No bleed is looked for so near a hit."""

ENOUGH = 12
"""A second weighing needs so many examples."""


def with_likeness(heard: Heard, found: Weighed, share: NDArray[np.float64]) -> Weighed | None:
    """Onsets as they are ``found``, with what `LIKE` names; ``share`` ``(onsets,)`` is how likely each is at
    first. None
    where too few are sure to say what the drum's hits are like."""
    kept = np.array(told(heard.piece, found, share, heard.rate), np.int64)
    sure = kept[share[kept] >= SURE]
    if len(sure) < ENOUGH:
        return None
    sure = sure[np.argsort(-share[sure], kind="stable")]
    clear = list(zip(found.place[sure].tolist(), found.level_db[sure].tolist(), strict=True))
    like = likeness(heard.shaped, found.place, clear, _bleed(heard, found, share, kept))
    more = newer_by(found.place, (like.soft, like.loud), RIVAL_S * heard.rate)
    usually = [
        np.full(len(share), one)
        for one in (like.soft_usually, like.loud_usually, like.bleed_usually)
    ]
    columns = [like.soft, like.loud, like.bleed, *more, *usually]
    rows = np.column_stack([found.evidence, *columns]).astype(np.float32)
    return replace(found, evidence=rows)


def _bleed(
    heard: Heard, found: Weighed, share: NDArray[np.float64], kept: NDArray[np.int64]
) -> list[float]:
    """Where something begins that is hardly a hit, the loudest first."""
    told_by = found.evidence[:, len(NAMES) + PLACE.index("told by")]
    away = distances(found.place, found.place[kept])
    hardly = (share < HARDLY) & (told_by == 0) & (away > APART_S * heard.rate)
    others = np.flatnonzero(hardly)
    loudest = others[np.argsort(-found.level_db[others], kind="stable")]
    places: list[float] = found.place[loudest].tolist()
    return places
