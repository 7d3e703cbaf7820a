"""From the mics of one take to its list of hits."""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.alike import with_alike
from arkund.core.hits.choose.begins import at_their_beginning
from arkund.core.hits.choose.believing import (
    is_believed,
    most_with_one,
    only_echoes,
    stand_clear,
)
from arkund.core.hits.choose.choosing import SELDOM
from arkund.core.hits.choose.floor import added_to, clear_hits
from arkund.core.hits.choose.hits import Chosen, hits_and_maybes
from arkund.core.hits.choose.overheard import overheard
from arkund.core.hits.choose.rolls import with_rolls
from arkund.core.hits.choose.unclaimed import unclaimed
from arkund.core.hits.hear.novelty import band_energy
from arkund.core.hits.hit import LOUD, SAME_HIT_S, Hit, hit_id, kind_of, velocity_of
from arkund.core.hits.listening import Listened, listen
from arkund.core.hits.weigh.afar import FAMILIES, Known, afar_of
from arkund.core.kit.roles import is_shell, parse_mic_name, piece_family


class Detected(NamedTuple):
    """Hits sorted by time, and by piece the times in s of what may be its soft hits besides."""

    hits: list[Hit]
    maybes: Mapping[str, Sequence[float]]


def detect_hits(mics: Mapping[str, NDArray[np.float32]], rate: int) -> list[Hit]:
    """The hits of `detect` alone; ``mics`` by name, ``(frames,)`` each."""
    return detect(mics, rate).hits


def detect(mics: Mapping[str, NDArray[np.float32]], rate: int) -> Detected:
    """Hits of one take.

    ``mics`` maps mic names (`arkund.core.kit.roles`) to mono signals ``(frames,)`` of one rate.
    Rooms, overdubs, beds and clicks are not listened to. Where no mic is close to any piece, one
    that hears the whole kit is (`whole`). There are none where nothing is played.
    """
    listened = listen(mics, rate)
    if listened is None:
        return Detected(_hits_of_whole_kit(mics, rate), {})
    take, signatures = listened.take, listened.signatures
    # A snare's are weighed twice: whatever is last, the other core should not wait for it.
    pieces = sorted(listened.pieces, key=lambda p: piece_family(p) != "snare")
    with ThreadPoolExecutor(2) as pool:
        weighed = pool.map(lambda p: hits_and_maybes(listened.heard(p), signatures), pieces)
        found = dict(zip(pieces, weighed, strict=True))
    found = {p: found[p] for p in listened.pieces}
    by_piece = without_echoes({p: chosen for p, (chosen, _) in found.items()})
    clear = clear_hits(listened.reach, [p for p in take.own if is_shell(p)], listened.afar)
    believed = {
        p
        for p in by_piece
        if stand_clear(p, clear.get(p, ())) or _is_hit_at_all(listened, p, by_piece)
    }
    by_piece = {p: s if p in believed else [] for p, s in by_piece.items()}
    clear = {p: own for p, own in clear.items() if p in believed}
    hits = [h for piece, chosen in by_piece.items() for h in _as_hits(piece, chosen)]
    if listened.afar is not None:
        known = {p: known_of(chosen) for p, chosen in by_piece.items()}
        for piece, chosen in overheard(listened.afar, known).items():
            hits += _as_hits(piece, chosen)
    # What stands clear of all bleed is a hit, whatever was decided until here.
    nearest = {p: take.mics[ears[0]] for p, ears in take.own.items()}
    hits = added_to(hits, clear, nearest, rate)
    hits = added_to(hits, unclaimed(listened.reach, hits, listened.afar), nearest, rate)
    hits = with_alike(hits, take.own, take.mics, rate)
    hits = with_rolls(
        hits,
        {p: take.bands[ears[0]] for p, ears in take.own.items() if piece_family(p) == "snare"},
        take.bands[take.overheads[0]] if take.overheads else None,
        take.own,
    )
    echoes = only_echoes(hits, [p for p, found in clear.items() if found])
    hits = [h for h in hits if h.piece not in echoes]
    for piece, sound in nearest.items():
        hits = at_their_beginning(hits, sound, piece, rate)
    hits.sort(key=lambda h: (h.time_s, h.piece))
    maybes = {p: m for p, (_, m) in found.items()}
    return Detected(hits, away_from_shells(maybes, hits))


def _is_hit_at_all(
    listened: Listened, piece: str, by_piece: Mapping[str, Sequence[Chosen]]
) -> bool:
    """`is_believed` of a piece's hits."""
    times = {p: np.array([s.time_s for s in chosen]) for p, chosen in by_piece.items()}
    own, family = times.pop(piece), piece_family(piece)
    if not len(own):
        return True
    share = listened.afar.at(own) if listened.afar and family in FAMILIES else None
    return is_believed(
        piece,
        np.array([s.confidence for s in by_piece[piece]]),
        None if share is None else share[:, FAMILIES.index(family)],
        most_with_one(own, times.values()),
    )


BEFORE_S, AFTER_S = 0.004, 0.005
"""What begins so little before or after another shell's hit is most likely its bleed."""


def away_from_shells(maybes: Mapping[str, list[float]], hits: list[Hit]) -> dict[str, list[float]]:
    """The places at which no other shell is struck just then; pieces without any are left out."""
    out = {}
    for piece, times in maybes.items():
        others = np.array([h.time_s for h in hits if is_shell(h.piece) and h.piece != piece])
        kept = [t for t in times if not np.any((others < t + BEFORE_S) & (others > t - AFTER_S))]
        if kept:
            out[piece] = kept
    return out


ECHO_S = 0.015


def without_echoes(by_piece: dict[str, list[Chosen]]) -> dict[str, list[Chosen]]:
    """The hits without those of toms that seem struck now and then, each time with another tom that
    is likelier: its mic hears that one."""
    toms = {p: s for p, s in by_piece.items() if piece_family(p) == "tom"}

    def echoes(piece: str, one: Chosen) -> bool:
        return any(
            abs(other.time_s - one.time_s) < ECHO_S and other.confidence >= one.confidence
            for p, chosen in toms.items()
            if p != piece
            for other in chosen
        )

    return {
        p: []
        if p in toms and len(chosen) <= SELDOM and all(echoes(p, s) for s in chosen)
        else chosen
        for p, chosen in by_piece.items()
    }


def _hits_of_whole_kit(mics: Mapping[str, NDArray[np.float32]], rate: int) -> list[Hit]:
    """Hits of a kit that is heard by overheads or one mic alone."""
    names = [m for m in mics if parse_mic_name(m).role in ("overhead", "kit")]
    ears = [mics[m] for m in names]
    afar = afar_of(ears, [band_energy(ear, rate) for ear in ears], rate)
    if afar is None:
        return []
    hits = [h for piece, chosen in overheard(afar, {}).items() for h in _as_hits(piece, chosen)]
    hits.sort(key=lambda h: (h.time_s, h.piece))
    return hits


def _as_hits(piece: str, chosen: list[Chosen]) -> list[Hit]:
    """Hits from hits by time, of which those within `SAME_HIT_S` are one."""
    if not chosen:
        return []
    loud = float(np.percentile([s.level_db for s in chosen], LOUD))
    hits: list[Hit] = []
    for one in chosen:
        level_db = one.level_db - loud
        hit = Hit(
            id=hit_id(piece, one.time_s),
            piece=piece,
            time_s=round(one.time_s, 6),
            velocity=velocity_of(level_db),
            kind=kind_of(level_db),
            confidence=round(one.confidence, 3),
            level_db=round(level_db, 2),
        )
        if hits and hit.time_s - hits[-1].time_s < SAME_HIT_S:
            if hit.level_db <= hits[-1].level_db:
                continue
            hits.pop()
        hits.append(hit)
    return hits


def known_of(chosen: list[Chosen]) -> Known:
    """A piece's hits with their levels against its loud ones, as `afar` takes them."""
    level = np.array([s.level_db for s in chosen])
    loud = np.percentile(level, LOUD) if len(level) else 0.0
    return Known(np.array([s.time_s for s in chosen]), level - loud)
