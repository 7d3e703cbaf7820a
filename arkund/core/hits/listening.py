"""What the mics of a take hear, measured before any hit is decided."""

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.choose.choosing import WITNESSED
from arkund.core.hits.explain.ownership import Signatures, event_vectors
from arkund.core.hits.explain.reach import Reach, reach_of
from arkund.core.hits.explain.signatures import learn_signatures
from arkund.core.hits.hear.leading import onsets_of
from arkund.core.hits.hear.novelty import BANDS, BandEnergy, band_energy, candidates
from arkund.core.hits.weigh.afar import FAMILIES, Afar, afar_of
from arkund.core.hits.weigh.arrivals import without_drums
from arkund.core.hits.weigh.weighing import Heard
from arkund.core.kit.roles import close_mics, is_shell, parse_mic_name, piece_family, sort_pieces


@dataclass(frozen=True)
class Take:
    """What is listened to: the ``mics`` by position with their ``bands`` and candidates
    (``found``), which of them are close to each piece (``own``) and which are ``overheads``; of
    each piece in ``own`` the ``nearest`` mic's sound as its onsets are looked for in it, and which
    of these stand ``far`` from their drum."""

    mics: list[NDArray[np.float32]]
    bands: list[BandEnergy]
    found: list[NDArray[np.int64]]
    own: dict[str, list[int]]
    overheads: list[int]
    nearest: list[NDArray[np.float32]]
    rate: int
    far: tuple[int, ...]

    @property
    def hop(self) -> int:
        return self.bands[0].hop


@dataclass(frozen=True)
class Listened:
    """A take, what each piece leaves in its mics, what overheads say of it, and what bleed can reach."""

    take: Take
    signatures: Signatures
    afar: Afar | None
    reach: Reach

    @property
    def pieces(self) -> list[str]:
        """Those with a mic of their own; none where nothing is struck."""
        return list(self.take.own) if self.signatures.pieces else []

    def heard(self, piece: str) -> Heard:
        """What there is to hear of a piece with a mic of its own."""
        take, signatures = self.take, self.signatures
        ears, ear = take.own[piece], list(take.own).index(piece)
        at = take.found[ears[0]]
        if piece_family(piece) == "snare":
            own = _merged([take.found[m] for m in ears])
            at = _with_others(own, _merged([take.found[m] for m in take.overheads]))
        begins = onsets_of(take.nearest, at * take.hop, take.rate, take.far)
        ways_s = {
            n: signatures.ways_s.get((piece, q))
            for n, q in enumerate(take.own)
            if q != piece and q in signatures.pieces
        }
        bleeds = np.zeros(len(at), np.int64)
        for other, way_s in ways_s.items():
            bleeds += begins.timely(ear, other, way_s)
        return Heard(
            piece,
            at,
            event_vectors(take.bands, at, take.overheads),
            begins,
            ear,
            [take.bands[m] for m in ears],
            take.nearest[ear],
            begins.untimely(ear, ways_s),
            bleeds,
            take.rate,
            ways_s,
            self.afar,
            self.reach,
        )


def listen(mics: Mapping[str, NDArray[np.float32]], rate: int) -> Listened | None:
    """What `detect_hits` knows before it decides, from mics ``(frames,)`` by name; None where no mic is close
    to any piece, or
    nothing begins."""
    take = _listen(mics, rate)
    frames = _merged(take.found) if take.own else np.zeros(0, np.int64)
    if len(frames) == 0:
        return None
    overheads = take.overheads
    with ThreadPoolExecutor(1) as beside:
        hearing = beside.submit(
            afar_of, [take.mics[m] for m in overheads], [take.bands[m] for m in overheads], rate
        )
        events = event_vectors(take.bands, frames, overheads)
        begins = onsets_of(take.nearest, frames * take.hop, rate, take.far)
        afar = hearing.result()
    pieces = list(take.own)
    share = afar.at(frames * take.hop / rate) if afar else None
    others = {} if share is None else _others_hits(share, pieces)
    surely = {} if share is None else _sure_hits(share, pieces)
    signatures = learn_signatures(events, take.own, overheads, begins, others, surely)
    reach = reach_of(
        dict(zip(take.own, take.nearest, strict=True)), [take.mics[m] for m in overheads], rate
    )
    return Listened(take, signatures, afar, reach)


def _others_hits(share: NDArray[np.float64], pieces: list[str]) -> dict[str, NDArray[np.bool_]]:
    """Of each shell the events that overheads surely give to a shell of another kind, and not to its
    own: whoever hears these first, they are not its hits. ``share`` ``(events, families)`` is what
    overheads say."""
    shells = [n for n, family in enumerate(FAMILIES) if is_shell(family)]
    out = {}
    for piece in filter(is_shell, pieces):
        own = FAMILIES.index(piece_family(piece))
        others = share[:, [n for n in shells if n != own]].max(axis=1)
        out[piece] = (share[:, own] < 1 - SURE_FROM_AFAR) & (others > SURE_FROM_AFAR)
    return out


def _sure_hits(share: NDArray[np.float64], pieces: list[str]) -> dict[str, NDArray[np.bool_]]:
    """Of kick and snare, where the kit has only one, the events that overheads surely give to it."""
    families = [piece_family(p) for p in pieces]
    return {
        p: share[:, FAMILIES.index(family)] > SURE_FROM_AFAR
        for p, family in zip(pieces, families, strict=True)
        if family in WITNESSED and families.count(family) == 1
    }


SURE_FROM_AFAR = 0.9


def _listen(mics: Mapping[str, NDArray[np.float32]], rate: int) -> Take:
    """Bands and candidates of the close mics and overheads that are alive."""
    names = [m for m in mics if parse_mic_name(m).is_close or parse_mic_name(m).role == "overhead"]
    with ThreadPoolExecutor(2) as pool:
        bands = list(pool.map(lambda m: band_energy(mics[m], rate), names))
        alive = [n for n, heard in enumerate(pool.map(_is_alive, bands)) if heard]
        names, bands = [names[n] for n in alive], [bands[n] for n in alive]
        pieces = sort_pieces(p for m in names if (p := parse_mic_name(m).piece))
        own = {p: [names.index(m) for m in close_mics(names, p)] for p in pieces}
        overheads = [i for i, m in enumerate(names) if parse_mic_name(m).role == "overhead"]
        cymbals = {m[0] for p, m in own.items() if not is_shell(p)}
        snares = {n for p, m in own.items() if piece_family(p) == "snare" for n in m}
        # A ghost that the top of a snare hardly shows may stand clear at its bottom.
        listening = {m[0] for m in own.values()} | snares | set(overheads)

        def begins(n: int) -> NDArray[np.int64]:
            if n not in listening:
                return np.zeros(0, np.int64)
            least_db = FAINT_RISE_DB if n in snares else RISE_DB
            return candidates(bands[n], least_db, lowest=BRIGHTEST if n in cymbals else 2)

        # The slower first: whatever is last, the other core should not wait for it.
        nearest = pool.map(
            lambda p: (
                mics[names[own[p][0]]]
                if is_shell(p)
                else without_drums(mics[names[own[p][0]]], rate)
            ),
            pieces,
        )
        found = list(pool.map(begins, range(len(names))))
    far = tuple(n for n, p in enumerate(pieces) if parse_mic_name(names[own[p][0]]).role in FAR)
    return Take([mics[m] for m in names], bands, found, own, overheads, list(nearest), rate, far)


BRIGHTEST = BANDS - 2
"""The first of the bands in which a cymbal's mic hears it before what bleeds."""

FAR = ("kick_out", "kick_sub")
"""Mics before a drum rather than at its head, which others may hear first."""

SHORTEST = 64
"""Fewer milliseconds of sound hold no hit that could be told."""

DEAD_DB = 14.0
"""Range from a mic's noise to its loudest moment under which it hears nothing."""


def _is_alive(bands: BandEnergy) -> bool:
    """Whether a mic hears more than its own noise: a dead one says nothing about who was struck."""
    if len(bands.energy) < SHORTEST:
        return False
    total = bands.smooth.sum(axis=1)
    return bool(total.max(initial=0.0) > 10 ** (DEAD_DB / 10) * bands.floor.sum())


def _merged(lists: list[NDArray[np.int64]], apart: int = 8) -> NDArray[np.int64]:
    """All frames in order, without those that follow another within ``apart`` frames."""
    frames = np.unique(np.concatenate(lists)) if lists else np.zeros(0, np.int64)
    kept: list[int] = []
    for frame in frames:
        if not kept or frame - kept[-1] >= apart:
            kept.append(int(frame))
    return np.array(kept, np.int64)


RISE_DB, FAINT_RISE_DB = 3.5, 2.0
"""By how much something new must exceed what was before to be asked about, and in a snare's mics,
where brushed ghosts hardly do.
"""

ELSEWHERE = 12
"""Frames from a drum's own onsets at which what overheads hear begin is asked about too."""


def _with_others(own: NDArray[np.int64], others: NDArray[np.int64]) -> NDArray[np.int64]:
    """A drum's own onsets, and of the ``others`` those far from each of them, in order: a ghost that
    a loud hat hides in a snare's mics may stand clear in the overheads."""
    if len(own) == 0:
        return own
    after = np.clip(np.searchsorted(own, others), 0, len(own) - 1)
    before = np.maximum(after - 1, 0)
    away = np.minimum(np.abs(own[after] - others), np.abs(own[before] - others))
    return np.unique(np.concatenate([own, others[away > ELSEWHERE]]))
