"""All pairs of a take that hear the same piece."""

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.pairs import PairAlignment, align_pair
from arkund.core.hits.detect import Hit
from arkund.core.kit.roles import close_mics, parse_mic_name, sort_pieces


def align_take(
    mics: Mapping[str, NDArray[np.float32]], hits: Sequence[Hit], rate: int
) -> list[PairAlignment]:
    """Every mic of a piece against its first close mic; each close mic against each overhead.

    Pairs without a usable stroke are left out. Rooms follow against the left (or only) overhead,
    for their polarity.
    """
    pairs = []
    audio = dict(mics)
    overheads = [m for m in mics if parse_mic_name(m).role == "overhead"]
    for piece in sort_pieces(h.piece for h in hits):
        times = np.array([h.time_s for h in hits if h.piece == piece])
        others = np.array([h.time_s for h in hits if h.piece != piece])
        close = close_mics(mics, piece)
        if not close:
            continue
        wanted = [(m, close[0]) for m in close[1:]] + [(c, o) for c in close for o in overheads]
        for mic, reference in wanted:
            nearer = reference if reference == close[0] else mic
            found = align_pair(piece, mic, reference, audio, times, others, rate, nearer)
            if found is not None:
                pairs.append(found)
    return _doubt_contradictions(pairs)


def _doubt_contradictions(pairs: list[PairAlignment]) -> list[PairAlignment]:
    """Three mics on one piece must agree with each other: signs multiply, delays add up.

    Where they do not, the less confident of the three pairs are no longer called sure.
    """
    by_key = {(p.piece, p.mic, p.reference): p for p in pairs}
    doubted: set[int] = set()
    for second in pairs:
        for first in pairs:
            if first.piece != second.piece or first.mic != second.reference:
                continue
            third = by_key.get((second.piece, second.mic, first.reference))
            if third is None:
                continue
            off = second.delay_samples + first.delay_samples - third.delay_samples
            if second.polarity * first.polarity != third.polarity or abs(off) > 8:
                three = (first, second, third)
                best = max(p.confidence for p in three)
                doubted |= {id(p) for p in three if p.confidence < max(best, 0.95)}
                doubted |= {id(p) for p in three} if best < 0.9 else set()
    doubted |= _out_of_step_sides(pairs)
    return [replace(p, sure=False) if id(p) in doubted else p for p in pairs]


def _out_of_step_sides(pairs: list[PairAlignment]) -> set[int]:
    """Pairs of a mic whose two overheads disagree in polarity where most mics' agree (or agree
    where most disagree): the overheads cannot stand to each other in two ways."""
    sides: dict[tuple[str, str], list[PairAlignment]] = {}
    for p in pairs:
        if p.reference.startswith("overhead"):
            sides.setdefault((p.piece, p.mic), []).append(p)
    twos = [two for two in sides.values() if len(two) == 2]
    vote = sum(a.polarity * b.polarity * min(a.confidence, b.confidence) for a, b in twos)
    return {
        id(p) for a, b in twos if a.polarity * b.polarity * vote < 0 for p in (a, b)
        if p.confidence < 0.97
    }  # fmt: skip
