"""All pairs of a take that hear the same piece."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from arkund.core.align.pairs import PairAlignment, align_pair
from arkund.core.align.signs import solve_signs
from arkund.core.hits.hit import Hit
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, piece_family, sort_pieces


def align_take(
    mics: Mapping[str, NDArray[np.float32]], hits: Sequence[Hit], rate: int
) -> list[PairAlignment]:
    """Every mic ``(frames,)`` of a piece against its first close mic; each close mic against each overhead;
    rooms against the first mic of each shell.

    Pairs without a usable hit are left out.
    """
    asked = []
    audio = dict(mics)
    overheads = [m for m in mics if parse_mic_name(m).role == "overhead"]
    distant = [m for m in mics if parse_mic_name(m).role == "room"]
    for piece in sort_pieces(h.piece for h in hits):
        times = _clear_hits(hits, piece)
        others = _crowding(hits, piece)
        close = close_mics(mics, piece)
        if not close:
            continue
        wanted = [(m, close[0]) for m in close[1:]] + [(c, o) for c in close for o in overheads]
        if is_shell(piece):
            wanted += [(m, close[0]) for m in distant]
        for mic, reference in wanted:
            nearer = reference if reference == close[0] else mic
            asked.append((piece, mic, reference, audio, times, others, rate, nearer))
    with ThreadPoolExecutor(2) as pool:
        found = list(pool.map(lambda one: align_pair(*one), asked))
    return judge([pair for pair in found if pair is not None], list(mics))


CLEAR_DB, ENOUGH = -8.0, 12
"""From this level against a piece's loud hits on, one is clear in far mics too; so many do."""


def _clear_hits(hits: Sequence[Hit], piece: str) -> NDArray[np.float64]:
    """Times of a drum's loud hits, or of its loudest `ENOUGH`: soft ones, of which far mics hear
    other pieces rather, say the wrong thing with one voice where a hat falls with each. Of a cymbal
    all hits but ghosts."""
    own = sorted((h for h in hits if h.piece == piece), key=lambda h: -h.level_db)
    clear = [h.level_db > CLEAR_DB if is_shell(piece) else h.kind != "ghost" for h in own]
    return np.sort([h.time_s for h in own[: max(sum(clear), ENOUGH)]])


def _crowding(hits: Sequence[Hit], piece: str) -> NDArray[np.float64]:
    """Times of the hits that drown one of ``piece``: hat and ride do not drown a shell."""
    soft = ("hat", "ride") if is_shell(piece) else ()
    return np.array(
        [h.time_s for h in hits if h.piece != piece and piece_family(h.piece) not in soft]
    )


LEAST_SUPPORT = 0.3
"""A mic whose pairs contradict each other more than this has no sure pair."""

GOOD_SUPPORT = 0.6
"""Where the others stand behind it this much, a pair is sure at `BACKED_CONFIDENCE`."""

BACKED_CONFIDENCE = 0.65
LAG_SLACK = 8
"""Samples by which the delays around three mics may fail to add up."""


def judge(pairs: list[PairAlignment], mics: list[str]) -> list[PairAlignment]:
    """The pairs with ``sure`` set by what they say of each other.

    Signs vote (`solve_signs`): a pair that the others outvote is doubtful, one that they stand
    behind is sure sooner. Delays of three mics on one piece must add up. A kick heard only from
    outside tells nothing about far mics: they hear the batter head, it hears the front.
    """
    signs = solve_signs(sorted({m for p in pairs for m in (p.mic, p.reference)}), pairs)
    torn = _torn_delays(pairs)
    outside_only = not any(m.startswith("kick_in") for m in mics)
    out = []
    for p in pairs:
        support = min(signs.support[p.mic], signs.support[p.reference])
        backed = p.confidence >= BACKED_CONFIDENCE and support >= GOOD_SUPPORT and p.hits >= 4
        blind = outside_only and p.piece == "kick" and p.confidence < PLAIN_FROM_OUTSIDE
        # Mics hear different sides of a cymbal, and few are wired the wrong way round.
        blind |= not is_shell(p.piece) and p.polarity < 0 and p.confidence < OPPOSED_CYMBAL
        sure = (p.sure or backed) and signs.agrees(p) and support >= LEAST_SUPPORT
        out.append(replace(p, sure=bool(sure and not blind and id(p) not in torn)))
    return out


OPPOSED_CYMBAL = 0.75
"""Least confidence of a cymbal's pair that says two mics oppose each other."""

PLAIN_FROM_OUTSIDE = 0.95
"""A kick that is heard only from outside: far mics hear its batter head, that mic the front. So sure
a pair must be of its first arrival and its body to be believed."""

NEAREST_CONFIDENCE = 0.9
BLAMELESS = 0.25
"""So much more confident than the least of three, a pair is not why they do not add up."""


def _to_blame(
    first: PairAlignment, second: PairAlignment, third: PairAlignment
) -> list[PairAlignment]:
    """Which of three pairs, of which ``first`` goes from the piece's nearest mic on, are why their
    delays do not add up.

    Both pairs of the nearest mic are believed where they are sure of themselves: what reaches a far
    mic of a snare comes off the head that its top mic hears, not off the wires at the bottom. Else it
    is whoever is not clearly more confident than the least.
    """
    three = [first, second, third]
    best, least = (f(p.confidence for p in three) for f in (max, min))
    if min(first.confidence, second.confidence) >= NEAREST_CONFIDENCE:
        return [third]
    if best < NEAREST_CONFIDENCE:
        return three
    return [p for p in three if p.confidence < max(best, 0.95) and p.confidence < least + BLAMELESS]


def _torn_delays(pairs: list[PairAlignment]) -> set[int]:
    """The less confident pairs of any three on one piece whose delays do not add up, without those
    that are far more confident than the least."""
    by_key = {(p.piece, p.mic, p.reference): p for p in pairs}
    torn: set[int] = set()
    for second in pairs:
        for first in pairs:
            if first.piece != second.piece or first.mic != second.reference:
                continue
            third = by_key.get((second.piece, second.mic, first.reference))
            if third is None:
                continue
            off = second.delay_samples + first.delay_samples - third.delay_samples
            if abs(off) > LAG_SLACK:
                torn |= {id(p) for p in _to_blame(first, second, third)}
    return torn
