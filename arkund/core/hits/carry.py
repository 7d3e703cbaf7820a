"""What was said of single hits carried over to a hit list that was found anew."""

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from arkund.core.hits.hit import Hit

SAME_S = 0.006
"""A hit found anew is the same one when it lies so near."""


def carried(
    ids: Iterable[str], old: Sequence[Hit], new: Sequence[Hit], renamed: Mapping[str, str]
) -> dict[str, str]:
    """Id in ``new`` of each hit of ``old`` that is named in ``ids`` and still there.

    A hit keeps its id where piece and time are the same; else the nearest one of its piece
    (``renamed`` where that is called otherwise now) within 6 ms takes its place. An id that
    ``old`` does not know, of a hit that an ear added, stands for itself.
    """
    known = {h.id: h for h in old}
    there = {h.id for h in new}
    out = {}
    for name in ids:
        hit = known.get(name)
        if hit is None or name in there:
            out[name] = name
            continue
        piece = renamed.get(hit.piece, hit.piece)
        same = [h for h in new if h.piece == piece]
        if same:
            gaps = np.array([abs(h.time_s - hit.time_s) for h in same])
            nearest = int(np.argmin(gaps))
            if gaps[nearest] <= SAME_S:
                out[name] = same[nearest].id
    return out
