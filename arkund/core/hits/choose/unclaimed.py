"""Hits that overheads hear as a tom's while no tom has them: they go to the tom whose mic stands out most."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

import numpy as np

from arkund.core.hits.choose.floor import SAME_S, WITHIN_DB, Clear
from arkund.core.hits.explain.reach import SAID, Reach, said_of_places
from arkund.core.hits.hear.onsets import FRAME_S
from arkund.core.hits.hit import Hit
from arkund.core.hits.weigh.afar import FAMILIES, Afar
from arkund.core.kit.roles import piece_family

TOM, OTHERS, NEW_DB, OVER_DB = 0.7, 0.2, 10.0, -3.0
"""How surely overheads give the sound to a tom, and how little to kick and snare; by how much it is new in
the tom's mic, and how far it may stand under the bleed that the paths would let through at most."""

MANY = 4
"""A tom that has no hit yet is not hit on the word of fewer: those are for an ear."""

SURE_TOM, SURE_OTHERS, SURE_NEW_DB = 0.9, 0.1, 15.0
"""Where overheads are as sure as that, and the sound is so new, two are enough, however much bleed the paths would
let through: all other toms have been asked. (On 120 worlds 13 hits, and none that was not.)"""
SURELY = 2

TOGETHER_S = 0.012
"""Toms' mics hear one hit within so long."""


def unclaimed(reach: Reach, hits: Sequence[Hit], afar: Afar | None) -> Mapping[str, list[Clear]]:
    """By tom the hits that are surely some tom's and that no list has, in order of time."""
    toms = [name for name in reach.names if piece_family(name) == "tom"]
    if afar is None:
        return {}
    out: dict[str, list[_Heard]] = {name: [] for name in toms}
    listed = np.array([h.time_s for h in hits if piece_family(h.piece) == "tom"])
    heard = [(name, one) for name in toms for one in _heard(reach, name, afar)]
    free = [
        (name, one)
        for name, one in heard
        if np.abs(listed - one.clear.time_s).min(initial=np.inf) > SAME_S
    ]
    # The clearest first; what it explains is taken.
    taken: list[float] = []
    for name, one in sorted(free, key=lambda pair: -pair[1].clear.over_db):
        if all(abs(one.clear.time_s - t) > TOGETHER_S for t in taken):
            taken.append(one.clear.time_s)
            out[name].append(one)
    known = {h.piece for h in hits}
    return {
        name: sorted((one.clear for one in found), key=lambda clear: clear.time_s)
        for name, found in out.items()
        if name in known or len(found) >= MANY or sum(one.is_sure for one in found) >= SURELY
    }


class _Heard(NamedTuple):
    """What a tom's mic hears, and whether overheads are sure that it is a tom."""

    clear: Clear
    is_sure: bool


def _heard(reach: Reach, name: str, afar: Afar) -> list[_Heard]:
    own = reach.found[reach.names.index(name)]
    if not len(own.at):
        return []
    times = (own.at * FRAME_S).astype(np.float64)
    said = dict(zip(SAID, said_of_places(reach, name, times), strict=True))
    seen = afar.at(times)
    tom, kick, snare = (seen[:, FAMILIES.index(one)] for one in ("tom", "kick", "snare"))
    others = np.maximum(kick, snare)
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    level_db = level_db - level_db.max()
    over_db, new_db = said["over bleed"], said["new by"]
    is_sure = (tom >= SURE_TOM) & (others < SURE_OTHERS) & (new_db >= SURE_NEW_DB)
    is_tom = (tom >= TOM) & (others < OTHERS) & (new_db >= NEW_DB) & (over_db >= OVER_DB)
    is_heard = (is_sure | is_tom) & (level_db >= -WITHIN_DB["tom"])
    return [
        _Heard(Clear(float(times[k]), float(over_db[k]), float(level_db[k])), bool(is_sure[k]))
        for k in np.flatnonzero(is_heard)
    ]
