"""The floor under detection: hits that a drum's own mic shows beyond what bleed can reach there.

What stands above all bleed that any path predicts (`explain.reach`) is a hit, whatever any model says. Paths
are known less well for toms, which are hit less often: there it must stand far above, or its mic must hear
it before every other, or overheads must give it to a tom too.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.reach import (
    SAID,
    Reach,
    ahead_of_all_s,
    excesses_db,
    said_of_places,
)
from arkund.core.hits.hear.arrival import first_arrival
from arkund.core.hits.hear.onsets import FRAME_S
from arkund.core.hits.hit import LOUD, Hit, hit_id, kind_of, velocity_of
from arkund.core.hits.weigh.afar import FAMILIES, Afar
from arkund.core.kit.roles import piece_family

OVER_DB = 0.0
TOM_OVER_DB, TOM_SEEN_OVER_DB, TOM_SEEN = 7.0, 2.0, 0.5
"""How far above all predicted bleed an onset is the drum's own: any drum's; a tom's that its mic does not
hear first; and one of those to which overheads give at least this share. (On 88 worlds of four sources,
one of 1,138 tom onsets beyond these was no hit, and of 3,509 kick onsets none.)"""

OTHER_SEEN, TOM_UNSEEN = 0.9, 0.1
"""Where overheads are so sure of kick or snare and see so little of a tom, being first is no proof."""

NO_SOURCE, NO_SOURCE_NEW_DB = 0.2, 15.0
"""Kick and snare bleed loudest into toms: where overheads see so little of both, what is new by so much and
over all bleed is the tom's. (On 76 worlds of four sources, toms at rest among them, 10 more hits and none
that was not; of those that overheads see and that are ahead of their bleed 7 more and none.)"""

WITHIN_DB = {"kick": 30.0, "tom": 18.0}
OTHERS_WITHIN_DB = 9.0
"""An onset so far under the drum's loudest is left to finer judgement, by family."""

NEW_DB = 10.0
"""A hit stands this far above the ring in its own mic; a bouncing beater does not."""

SLOW_NEW_DB, SLOW_OVER_DB, SLOW_SEEN, SLOW_OTHERS = 5.0, 5.0, 0.9, 0.1
"""A tom's hit that begins softly stands less above what is heard just before it. It is one where it is so far over
all bleed, and overheads see a tom and nothing of kick and snare. (On 120 worlds 118 such onsets, all of them hits.)"""

KICK_SEEN, KICK_NEW_DB, KICK_OVER_DB, KICK_FAR_OVER_DB, KICK_WITHIN_DB = (
    0.95,
    5.0,
    -10.0,
    -3.0,
    15.0,
)
"""Where overheads are this sure of a kick, its mic needs less: an onset that is new by the second figure is a hit. It
may lie under the most that bleed could reach, by all paths and as overheads tell (third and fourth), but no farther
under the mic's loudest than the last. (On 176 worlds, most of them left out, 49 such onsets that no list had: all of
them hits, 20 of them obvious.)"""

UNHEARD_OVER_DB, UNHEARD_FAR_OVER_DB = -5.0, 14.0
"""Overheads hardly hear a soft kick, so no bleed can come from there. Its mic hears it first; it lies this little under
the most that bleed could reach by all paths, and this far over what overheads tell. (On the same worlds 20 such onsets
that no list had: all of them obvious hits.)"""

FAINT_DB, QUIET = 15.0, 20
"""A hit is at least this far above the mic's noise, the level that this percentage of its frames stay under. (The
median is no noise where cymbals ring through half of a song: it cost eleven soft kicks on 80 worlds.)"""


@dataclass(frozen=True)
class Clear:
    """A hit that stands clear: its time in s, by how many dB it exceeds predicted bleed, and its level in
    dB against the loudest such one."""

    time_s: float
    over_db: float
    level_db: float


def clear_hits(
    reach: Reach, wanted: Sequence[str], afar: Afar | None = None
) -> dict[str, list[Clear]]:
    """For each ``wanted`` piece the hits that no bleed can explain, in order of time; ``afar`` is what
    overheads say."""
    return {name: _clear(reach, name, afar) for name in wanted if name in reach.names}


def is_hit_surely(clear: Sequence[Clear]) -> bool:
    """Whether a drum's clear hits alone say that it is hit: more than one, or one beyond doubt."""
    return len(clear) > 1 or any(one.over_db >= ANCHOR_DB for one in clear)


def added_to(
    hits: Sequence[Hit],
    clear_ones: Mapping[str, Sequence[Clear]],
    close: Mapping[str, NDArray[np.float32]],
    rate: int,
) -> list[Hit]:
    """The list with the clear hits that it lacks: none within `SAME_S` of them. Sorted by time. ``close`` are
    the pieces' nearest mics ``(frames,)``.

    A drum that has no other hit is only believed to be hit where its clear hits say so surely, and not all of
    a tom's fall with those of one piece that is no tom: its bleed. Else its moments are for an ear (`moments`).
    What is not far over all bleed in a tom's mic while it is farther in another's, or surely that one's, is no hit.
    """
    out = list(hits)
    for piece in clear_ones:
        own = [h for h in hits if h.piece == piece]
        clear = _without_other_toms(piece, clear_ones, hits)
        if not own and (not is_hit_surely(clear) or _falls_with_another(piece, clear, hits)):
            continue
        known = np.array([h.time_s for h in own])
        levels = {h.time_s: h.level_db for h in own}
        shift_db = _shift_db(clear, known, levels)
        for one in clear:
            if np.abs(known - one.time_s).min(initial=np.inf) > SAME_S:
                out.append(_as_hit(piece, one, close[piece], rate, shift_db))
    return sorted(out, key=lambda h: (h.time_s, h.piece))


def _without_other_toms(
    piece: str, clear_ones: Mapping[str, Sequence[Clear]], hits: Sequence[Hit]
) -> list[Clear]:
    """A tom's clear hits without those that are not far over bleed while another tom is surely hit, or farther over
    its own."""
    if piece_family(piece) != "tom":
        return list(clear_ones[piece])
    others = {p for p in clear_ones if p != piece and piece_family(p) == "tom"}
    sure = [(h.time_s, np.inf) for h in hits if h.piece in others and h.confidence >= SURELY]
    theirs = [*sure, *((one.time_s, one.over_db) for p in others for one in clear_ones[p])]

    def is_another_s(one: Clear) -> bool:
        return one.over_db < TOM_OVER_DB and any(
            abs(time_s - one.time_s) <= WITH_ANOTHER_S and over_db > one.over_db
            for time_s, over_db in theirs
        )

    return [one for one in clear_ones[piece] if not is_another_s(one)]


def _falls_with_another(piece: str, clear: Sequence[Clear], hits: Sequence[Hit]) -> bool:
    """Whether a tom's clear hits fall with those of one piece that is no tom, each of them."""
    if piece_family(piece) != "tom":
        return False
    times = np.array([one.time_s for one in clear])
    for other in {h.piece for h in hits if piece_family(h.piece) != "tom"}:
        if piece_family(other) != "kick" and len(times) < FEWEST_WITH_ANOTHER:
            continue
        theirs = np.array([h.time_s for h in hits if h.piece == other])
        if np.abs(times[:, None] - theirs).min(axis=1).max() <= WITH_ANOTHER_S:
            return True
    return False


SAME_S, WITH_ANOTHER_S = 0.025, 0.012
SURELY = 0.97
"""How sure a listed hit of another tom is, to be what a tom's mic hears."""

FEWEST_WITH_ANOTHER = 5
"""A few hits of a tom fall with a hat's or a snare's by the way; no other bleed than a kick's is so loud in it that
few would tell."""

ANCHOR_DB = 4.0
SURE, SUREST, SUREST_DB = 0.92, 0.99, 20.0
"""How sure a clear hit is at the least, and at the most: from so many dB over bleed on."""


def _shift_db(
    clear: Sequence[Clear], known: NDArray[np.float64], levels: Mapping[float, float]
) -> float:
    """What is added to a clear hit's level so that it is measured as listed ones are: against the
    piece's loud hits. Where none of them is listed, their own loud ones count: what their levels are against
    may be no hit of this drum."""
    both = []
    for one in clear:
        if len(known) and np.abs(known - one.time_s).min() <= SAME_S:
            nearest = float(known[np.argmin(np.abs(known - one.time_s))])
            both.append(levels[nearest] - one.level_db)
    if both:
        return float(np.median(both))
    return -float(np.percentile([one.level_db for one in clear], LOUD)) if clear else 0.0


def _as_hit(piece: str, one: Clear, sound: NDArray[np.float32], rate: int, shift_db: float) -> Hit:
    share = min(max(one.over_db, 0.0) / SUREST_DB, 1.0)
    sure = SURE + (SUREST - SURE) * share
    return as_hit_at(piece, one.time_s, one.level_db + shift_db, sure, sound, rate)


def as_hit_at(
    piece: str, time_s: float, level_db: float, sure: float, sound: NDArray[np.float32], rate: int
) -> Hit:
    """A hit near a time in s, where its ``sound`` ``(frames,)`` first arrives there; ``level_db`` against the
    piece's loud ones."""
    begin = round((time_s - PLACE_S[0]) * rate)
    around = sound[max(begin, 0) : round((time_s + PLACE_S[1]) * rate)]
    at = first_arrival(around, 0, len(around), round(0.0014 * rate))
    placed_s = round((max(begin, 0) + float(at)) / rate, 6)
    level_db = round(level_db, 2)
    return Hit(
        id=hit_id(piece, placed_s),
        piece=piece,
        time_s=placed_s,
        velocity=velocity_of(level_db),
        kind=kind_of(level_db),
        confidence=round(sure, 3),
        level_db=level_db,
    )


PLACE_S = (0.004, 0.008)
"""Where a hit's first arrival is looked for around the frame in which it rises."""


def _clear(reach: Reach, name: str, afar: Afar | None) -> list[Clear]:
    p, family = reach.names.index(name), piece_family(name)
    own = reach.found[p]
    if not len(own.at):
        return []
    times = (own.at * FRAME_S).astype(np.float64)
    said = dict(zip(SAID, said_of_places(reach, name, times), strict=True))
    over_db = said["over bleed"]
    level_db = 20 * np.log10(np.maximum(own.level, 1e-9))
    noise_db = 20 * np.log10(max(float(np.percentile(reach.peaks[p], QUIET)), 1e-7))
    is_new = said["new by"] >= NEW_DB
    if family == "tom" and afar is not None:
        is_new |= _begins_softly(said, afar.at(times))
    is_new &= level_db >= noise_db + FAINT_DB
    is_over = over_db >= OVER_DB
    if family == "tom":
        is_over = _is_tom(reach, p, times, said, afar)
    elif family == "kick" and reach.far:
        is_over |= (
            (over_db >= UNHEARD_OVER_DB)
            & (said["over bleed as overheads tell"] >= UNHEARD_FAR_OVER_DB)
            & (ahead_of_all_s(reach, p) >= 0)
        )
    is_clear = is_new & is_over
    if family == "kick" and afar is not None:
        is_clear |= _is_seen_kick(said, afar.at(times), level_db)
    if not is_clear.any():
        return []
    loudest = float(level_db[is_clear].max())
    is_clear &= level_db >= loudest - WITHIN_DB.get(family, OTHERS_WITHIN_DB)
    return [
        Clear(float(time_s), float(over), float(level - loudest))
        for time_s, over, level in zip(
            times[is_clear], over_db[is_clear], level_db[is_clear], strict=True
        )
    ]


def _begins_softly(
    said: Mapping[str, NDArray[np.float64]], seen: NDArray[np.float64]
) -> NDArray[np.bool_]:
    tom, kick, snare = (seen[:, FAMILIES.index(one)] for one in ("tom", "kick", "snare"))
    is_tom = (tom >= SLOW_SEEN) & (np.maximum(kick, snare) < SLOW_OTHERS)
    out: NDArray[np.bool_] = (
        is_tom & (said["new by"] >= SLOW_NEW_DB) & (said["over bleed"] >= SLOW_OVER_DB)
    )
    return out


def _is_seen_kick(
    said: Mapping[str, NDArray[np.float64]],
    seen: NDArray[np.float64],
    level_db: NDArray[np.float64],
) -> NDArray[np.bool_]:
    out: NDArray[np.bool_] = (
        (seen[:, FAMILIES.index("kick")] >= KICK_SEEN)
        & (said["new by"] >= KICK_NEW_DB)
        & (said["over bleed"] >= KICK_OVER_DB)
        & (said["over bleed as overheads tell"] >= KICK_FAR_OVER_DB)
        & (level_db >= level_db.max() - KICK_WITHIN_DB)
    )
    return out


def _is_tom(
    reach: Reach,
    p: int,
    times: NDArray[np.float64],
    said: Mapping[str, NDArray[np.float64]],
    afar: Afar | None,
) -> NDArray[np.bool_]:
    """Which onsets in a tom's mic at ``times`` in s stand clear of bleed, in one of the known ways."""
    over_db = said["over bleed"]
    is_first = ahead_of_all_s(reach, p) >= 0
    if afar is None:
        return (over_db >= OVER_DB) & (is_first | (over_db >= TOM_OVER_DB))
    seen = afar.at(times)
    tom, kick, snare = (seen[:, FAMILIES.index(one)] for one in ("tom", "kick", "snare"))
    other = np.maximum(kick, snare)
    is_seen = tom >= TOM_SEEN
    is_other = (other >= OTHER_SEEN) & (tom < TOM_UNSEEN)
    is_without_source = (other < NO_SOURCE) & (said["new by"] >= NO_SOURCE_NEW_DB)
    over = (over_db >= OVER_DB) & ((is_first & ~is_other) | is_without_source)
    far_over = (over_db >= TOM_OVER_DB) | ((over_db >= TOM_SEEN_OVER_DB) & is_seen)
    # Bleed is not ahead of what it comes from: what the tom's mic hears sooner explains little of it.
    ahead = (excesses_db(reach, p) >= OVER_DB) & (said["over bleed as overheads tell"] >= OVER_DB)
    out: NDArray[np.bool_] = over | far_over | (ahead & is_first & is_seen)
    return out
