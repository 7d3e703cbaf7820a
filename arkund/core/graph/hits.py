"""The hits that a song is heard to have: of the takes as joined, corrected and moved."""

from collections import deque
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import cache
from threading import Lock
from typing import Any

import numpy as np

from arkund.core.graph.laying import laid_at, laid_out
from arkund.core.hits.hit import Hit, hit_id
from arkund.core.kit.roles import label
from arkund.core.once import once
from arkund.core.sheet.lanes import Library
from arkund.core.sheet.sheet import Sheet, Take
from arkund.core.sheet.timing import Copy
from arkund.core.timing.copying import LEAD_S, hit_length, lead_before
from arkund.core.timing.corrections import corrected
from arkund.core.timing.moves import moved_hits


def take_hits(sheet: Sheet, take: Take, hits_of: Callable[[str], Sequence[Hit]]) -> list[Hit]:
    """One take's hits with what an ear corrected, in the song's time."""
    listed = corrected(hits_of(take.hits) if take.hits else (), take.corrections)
    if not take.offset:
        return listed
    shift = take.offset / sheet.rate
    return [replace(h, time_s=round(h.time_s - shift, 6)) for h in listed]


def played_hits(sheet: Sheet, hits_of: Callable[[str], Sequence[Hit]]) -> list[Hit]:
    """The hits of the takes as joined, before any move: each stretch's own. A hit that was
    copied has the sample at which its copy begins behind its id."""
    takes = {t.number: t for t in sheet.takes}
    return _as_joined(sheet, lambda number: take_hits(sheet, takes[number], hits_of))


def _as_joined(sheet: Sheet, hits_in: Callable[[int], list[Hit]]) -> list[Hit]:
    """Each stretch's own of what is found in its take (by number, in the song's time)."""
    laid = laid_out(sheet)
    ends = [*(s.at for s in laid[1:]), sheet.frames]
    known = {number: hits_in(number) for number in {s.take for s in laid}}
    out = []
    for number, (stretch, end) in enumerate(zip(laid, ends, strict=True)):
        for hit in known[stretch.take]:
            at = hit.time_s * sheet.rate + stretch.shift
            if (at >= stretch.at or number == 0) and at < end:
                if stretch.shift:
                    time_s = round(hit.time_s + stretch.shift / sheet.rate, 6)
                    hit = replace(hit, id=f"{hit.id}-{stretch.at}", time_s=time_s)
                out.append(hit)
    return out


def copy_of(hit: Hit, to_s: float, sheet: Sheet, hits_of: Callable[[str], Sequence[Hit]]) -> Copy:
    """The copy that lays a hit of the song, with what falls together with it, over the song at ``to_s``
    (s, before any move) in all mics."""
    rate = sheet.rate
    here = laid_at(sheet, (hit.time_s + 1e-6) * rate)
    own_s = hit.time_s - here.shift / rate
    take = next(t for t in sheet.takes if t.number == here.take)
    own, there = take_hits(sheet, take, hits_of), played_hits(sheet, hits_of)
    lead_s = max(lead_before(there, to_s), LEAD_S + (hit.grace_s or 0.0))
    at = max(round((to_s - lead_s) * rate), 0)
    return Copy(
        take=here.take,
        source=round((own_s - to_s) * rate) + at,
        at=at,
        frames=round((hit_length(own, own_s, there, to_s) + lead_s) * rate),
        label=f"{label(hit.piece)} hit",
    )


def sounding_hits(sheet: Sheet, library: Library, *, as_put: bool = False) -> list[Hit]:
    """The hits that are heard, in the song's time: joined, corrected and moved; with ``as_put`` only
    where their sound was moved too (`moved_hits`)."""
    hits = played_hits(sheet, library.hits_of)
    if sheet.moves is None:
        return hits
    return moved_hits(hits, library.edits_of(sheet.moves), sheet.rate, as_put=as_put)


class Hits:
    """Hits of a song, listed ones and others, and where they fall. What is asked of it once is known
    from then on."""

    def __init__(self, every: Sequence[Hit]) -> None:
        self.every = tuple(every)
        self.places = cache(self._places)

    @once
    def _by_piece(self) -> Mapping[str, list[Hit]]:
        found: dict[str, list[Hit]] = {}
        for hit in self.every:
            found.setdefault(hit.piece, []).append(hit)
        return found

    @once
    def times_s(self) -> Mapping[str, float]:
        """When each hit falls, by its id."""
        return {h.id: h.time_s for h in self.every}

    def of(self, piece: str | None) -> Sequence[Hit]:
        """A piece's hits, in their order."""
        return self._by_piece.get(piece or "", [])

    def _places(self, piece: str | None, rate: int, delay: float) -> tuple[int, ...]:
        """The sample on which each of a piece's hits falls in a mic that is so many samples late."""
        return tuple(round(h.time_s * rate + delay) for h in self.of(piece))


KEPT = 4
_lately: deque[tuple[tuple[Any, ...], Hits]] = deque(maxlen=KEPT)
_turn = Lock()


def all_hits(sheet: Sheet, library: Library) -> Hits:
    """What opens gates and plays layers: the hits that are heard, where their sound is, and behind
    them what may be one. The last few are kept, since most changes of a sheet leave them alone."""
    rests_on = (library, sheet.moves, sheet.takes, sheet.comp, sheet.copies, sheet.frames)
    with _turn:
        for known, found in _lately:
            if known == rests_on:
                return found
    listed = sounding_hits(sheet, library, as_put=True)
    every = Hits([*listed, *sounding_unlisted(sheet, library, listed, as_put=True)])
    with _turn:
        _lately.append((rests_on, every))
    return every


BLEED = "bleed"
"""Kind of a moment that the engineer heard and called bleed."""


def said_bleed(sheet: Sheet, library: Library) -> list[Hit]:
    """The moments that an ear heard and called bleed, each of the piece that it is no hit of, in the
    song's time. In a take's corrections they stand as what was never there."""
    takes = {t.number: t for t in sheet.takes}

    def said_in(number: int) -> list[Hit]:
        take = takes[number]
        marks = {
            name: said
            for name, said in take.corrections.items()
            if said.gone and said.piece is not None and said.time_s is not None
        }
        listed = {h.id for h in library.hits_of(take.hits)} if marks and take.hits else set()
        shift = take.offset / sheet.rate
        return [
            Hit(name, said.piece or "", round((said.time_s or 0.0) - shift, 6), 1, BLEED, 1.0, 0.0)
            for name, said in marks.items()
            if name not in listed
        ]

    found = _as_joined(sheet, said_in)
    if found and sheet.moves is not None:
        found = moved_hits(found, library.edits_of(sheet.moves), sheet.rate)
    return found


UNLISTED = "unlisted"
"""Kind of a clear onset that no hit list has: it may be a hit."""

SAME_S = 0.03


def sounding_unlisted(
    sheet: Sheet, library: Library, listed: Sequence[Hit], *, as_put: bool = False
) -> list[Hit]:
    """What stands clear in a drum's mic though it is in no list of hits, in the song's time.
    What is ``listed`` by now (`sounding_hits`), since an ear added it, is left out."""
    takes = {t.number: t for t in sheet.takes}

    def found_in(number: int) -> list[Hit]:
        take = takes[number]
        if take.analysis is None:
            return []
        shift = take.offset / sheet.rate
        return [
            Hit(hit_id(piece, at), piece, round(at - shift, 6), 1, UNLISTED, 0.0, 0.0)
            for piece, times in library.unlisted_of(take.analysis).items()
            for at in times
        ]

    found = _as_joined(sheet, found_in)
    if found and sheet.moves is not None:
        found = moved_hits(found, library.edits_of(sheet.moves), sheet.rate, as_put=as_put)
    known = {
        p: np.array([h.time_s for h in listed if h.piece == p]) for p in {h.piece for h in found}
    }
    return [h for h in found if np.abs(known[h.piece] - h.time_s).min(initial=np.inf) > SAME_S]
