"""Hits that overheads hear as a tom's while no tom has them: they go to the tom whose mic stands out most."""

from collections.abc import Mapping, Sequence

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

TOGETHER_S = 0.012
"""Toms' mics hear one hit within so long."""


def unclaimed(reach: Reach, hits: Sequence[Hit], afar: Afar | None) -> Mapping[str, list[Clear]]:
    """By tom the hits that are surely some tom's and that no list has, in order of time."""
    toms = [name for name in reach.names if piece_family(name) == "tom"]
    if afar is None:
        return {}
    out: dict[str, list[Clear]] = {name: [] for name in toms}
    listed = np.array([h.time_s for h in hits if piece_family(h.piece) == "tom"])
    heard = [(name, one) for name in toms for one in _heard(reach, name, afar)]
    free = [
        (name, one)
        for name, one in heard
        if np.abs(listed - one.time_s).min(initial=np.inf) > SAME_S
    ]
    # The clearest first; what it explains is taken.
    taken: list[float] = []
    for name, one in sorted(free, key=lambda pair: -pair[1].over_db):
        if all(abs(one.time_s - t) > TOGETHER_S for t in taken):
            taken.append(one.time_s)
            out[name].append(one)
    known = {h.piece for h in hits}
    return {
        name: sorted(found, key=lambda one: one.time_s)
        for name, found in out.items()
        if name in known or len(found) >= MANY
    }


def _heard(reach: Reach, name: str, afar: Afar) -> list[Clear]:
    own = reach.found[reach.names.index(name)]
    if not len(own.at):
        return []
    times = (own.at * FRAME_S).astype(np.float64)
    said = dict(zip(SAID, said_of_places(reach, name, times), strict=True))
    seen = afar.at(times)
    tom, kick, snare = (seen[:, FAMILIES.index(one)] for one in ("tom", "kick", "snare"))
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    level_db = level_db - level_db.max()
    over_db = said["over bleed"]
    is_tom = (tom >= TOM) & (np.maximum(kick, snare) < OTHERS) & (level_db >= -WITHIN_DB["tom"])
    is_tom &= (said["new by"] >= NEW_DB) & (over_db >= OVER_DB)
    return [
        Clear(float(times[k]), float(over_db[k]), float(level_db[k]))
        for k in np.flatnonzero(is_tom)
    ]
