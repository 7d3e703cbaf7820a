"""Hits that no close mic hears, from what the overheads (or one mic of the whole kit) hear.

Every onset is looked at in half-octave bands just before it, as it begins and as it dies away, beside
the song's other onsets and beside what the hits that are known from close mics leave there. Trees
(`verdict`) weigh that for each family of pieces, twice: the second time with what the first says of
this onset, of those that sound alike and of those around it, for a song's own kick is known best by
its other kicks.
"""

from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import partial

import numpy as np
import scipy
from numpy.typing import NDArray

from arkund.core.hits.hear.novelty import BANDS as CLOSE_BANDS
from arkund.core.hits.hear.novelty import BandEnergy
from arkund.core.hits.hear.spectra import (
    COARSE,
    EDGES_HZ,
    LOUD,
    LOWEST_DB,
    SHORTEST_MS,
    Spectra,
    onsets,
    spectra,
)
from arkund.core.hits.weigh.verdict import AFAR_FILE, kept, probabilities
from arkund.core.kit.roles import piece_family
from arkund.core.once import once

FAMILIES = ("kick", "snare", "tom", "hat", "crash", "ride")
"""Families of pieces that are looked for in an onset, in the order of columns."""

NEAR_S = 0.012
"""Onsets in an overhead and in a close mic that are less apart are one."""

SAME_S = 0.015
"""A known hit so near an onset is in it."""

ENOUGH = 3
"""Hits that are needed to know what a piece leaves in the overheads."""

ALIKE, AROUND_S = 6, 1.2
"""How many onsets that sound alike, and how far around, the first weighing is looked up."""


@dataclass(frozen=True)
class Known:
    """Hits of one piece with a mic: ``times_s`` ascending, ``level_db`` against its loud ones."""

    times_s: NDArray[np.float64]
    level_db: NDArray[np.float64]


@dataclass(frozen=True)
class Afar:
    """Onsets in one or two ears: their ``frames`` of ``hop`` samples and ``times_s``, by how much each
    band ``rises`` there, and what is ``heard``. ``given`` takes the place of `alone`, where the trees
    are still to be fitted."""

    ears: Sequence[NDArray[np.float32]]
    rate: int
    hop: int
    frames: NDArray[np.int64]
    rises: NDArray[np.float64]
    heard: "Spectra"
    given: NDArray[np.float64] | None = None

    @once
    def times_s(self) -> NDArray[np.float64]:
        """When each is noticed, in s."""
        return self.frames * self.hop / self.rate

    @once
    def alone(self) -> NDArray[np.float64]:
        """`share` with nothing known."""
        return self.share({}) if self.given is None else self.given

    def share(self, known: Mapping[str, "Known"]) -> NDArray[np.float64]:
        """How likely each onset holds a hit of each family, ``(onsets, families)``, by what is heard
        and what is ``known`` of pieces with mics; of their families, whether a known one is there."""
        held = levels_of(self.times_s, known)
        rows = figures(self.heard, self.times_s, self.rises, known)
        share = np.zeros((len(rows), len(FAMILIES)))
        for time in (1, 2):
            asked = (
                rows if time == 1 else np.hstack([rows, looked_up(self.heard, self.times_s, share)])
            )
            names = FIGURES if time == 1 else (*FIGURES, *LOOKED_UP)
            trees = [kept(AFAR_FILE, names, f"{f}_{time}_") for f in FAMILIES]
            with ThreadPoolExecutor(2) as pool:
                weighed = list(pool.map(partial(probabilities, asked), trees))
            share = np.where(np.isnan(held), np.stack(weighed, axis=1), held > LOWEST_DB)
        return share

    def at(self, times_s: NDArray[np.float64]) -> NDArray[np.float64]:
        """What `alone` says of the likeliest onset near each of ``times_s``, ``(times, families)``; 0
        where nothing begins."""
        out = np.zeros((len(times_s), len(FAMILIES)))
        if len(self.frames) == 0:
            return out
        after = np.searchsorted(self.times_s, times_s)
        for index in (after - 1, after):
            near = np.clip(index, 0, len(self.frames) - 1)
            apart = np.abs(self.times_s[near] - times_s)[:, None]
            out = np.maximum(out, np.where(apart <= NEAR_S, self.alone[near], 0.0))
        return out


def afar_of(
    ears: Sequence[NDArray[np.float32]], bands: Sequence[BandEnergy], rate: int
) -> Afar | None:
    """What the ``ears`` ``(frames,)``, left first, hear begin; None where they hear nothing."""
    if not ears or min(len(b.energy) for b in bands) < SHORTEST_MS:
        return None
    frames, rises = onsets(bands)
    if len(frames) < 2:
        return None
    hop = bands[0].hop
    return Afar(ears, rate, hop, frames, rises, spectra(ears, frames * hop / rate, rate))


_BANDS = [f"{hz:.0f} Hz" for hz in np.sqrt(EDGES_HZ[1:] * EDGES_HZ[:-1])]
_COARSELY = [f"range {n}" for n in range(1, len(COARSE) + 1)]
FIGURES = (
    *(f"share of {b}" for b in _BANDS),
    *(f"level at {b}" for b in _BANDS),
    *(f"level later at {b}" for b in _BANDS),
    *(f"over what was before at {b}" for b in _BANDS),
    *(f"rise of band {n}" for n in range(1, CLOSE_BANDS + 1)),
    *(f"left at {b}" for b in _BANDS),
    *(f"left later in {c}" for c in _COARSELY),
    *(f"attack in {c}" for c in _COARSELY),
    *(f"to the left in {c}" for c in _COARSELY),
    *(f"over known hits at {b}" for b in _BANDS),
    *(f"left over known hits in {c}" for c in _COARSELY),
    "level",
    "rank",
    "brightness",
    "since one before",
    "until the next",
    "that one's level",
    "the next one's level",
    *(f"known {f}" for f in FAMILIES),
)
"""Columns of `figures`, in order."""

LOOKED_UP = tuple(
    f"{what} {f}"
    for what in ("first share of", "share of alike", "share around of", "apart from", "how many")
    for f in FAMILIES
)
"""Columns of `looked_up`, in order."""


def figures(
    heard: Spectra,
    times_s: NDArray[np.float64],
    rises: NDArray[np.float64],
    known: Mapping[str, Known],
) -> NDArray[np.float32]:
    """``(onsets, columns)``: what trees weigh the first time; NaN where a figure is not known.

    ``known`` are the hits of each piece with a mic of its own, none for one that rests.
    """
    energy, level = heard.energy, heard.level_db
    early = 10 * np.log10(energy["early"])
    total = 10 * np.log10(energy["early"].sum(axis=1))
    loud = np.percentile(total, LOUD) if len(total) else 0.0
    over = 10 * np.log10(energy["early"] / (energy["before"] + 1e-12))
    left, started = expected(heard, times_s, known)
    gap = np.diff(times_s)
    far = np.full(1, 1.0)
    bright = 10 * np.log10(energy["attack"][:, 8:].sum(axis=1) / energy["early"][:, 8:].sum(axis=1))
    columns = [
        early - total[:, None],
        level["early"],
        level["late"],
        over,
        rises,
        10 * np.log10(energy["body"] / energy["early"]),
        10 * np.log10(_coarse(energy["late"]) / _coarse(energy["body"])),
        10 * np.log10(_coarse(energy["attack"]) / _coarse(energy["early"])),
        heard.place_db,
        started,
        left,
        np.stack(
            [
                total - loud,
                scipy.stats.rankdata(total) / max(len(total), 1),
                bright,
                np.concatenate([far, gap])[: len(total)],
                np.concatenate([gap, far])[: len(total)],
                np.concatenate([total[:1], total[:-1]]) - total,
                np.concatenate([total[1:], total[-1:]]) - total,
            ],
            axis=1,
        ),
        levels_of(times_s, known),
    ]
    return np.hstack(columns).astype(np.float32)


def _coarse(energy: NDArray[np.float64]) -> NDArray[np.float64]:
    return np.stack([energy[:, c].sum(axis=1) for c in COARSE], axis=1)


def levels_of(times_s: NDArray[np.float64], known: Mapping[str, Known]) -> NDArray[np.float64]:
    """Level in dB ``(onsets, families)`` of the known hit in each onset; `LOWEST_DB` where there is
    none, NaN for families of which no piece has a mic."""
    out = np.full((len(times_s), len(FAMILIES)), np.nan)
    for piece, hits in known.items():
        column = FAMILIES.index(piece_family(piece))
        out[:, column] = np.fmax(out[:, column], level_at(times_s, hits))
    return out


def level_at(times_s: NDArray[np.float64], hits: Known) -> NDArray[np.float64]:
    """Level in dB ``(onsets,)`` of the hit in each onset, `LOWEST_DB` where there is none; of what is
    there the louder of two."""
    if len(hits.times_s) == 0:
        return np.full(len(times_s), LOWEST_DB)
    after = np.clip(np.searchsorted(hits.times_s, times_s), 1, max(len(hits.times_s) - 1, 1))
    two = np.stack([after - 1, np.minimum(after, len(hits.times_s) - 1)])
    apart = np.abs(hits.times_s[two] - times_s)
    level = np.where(apart <= SAME_S, hits.level_db[two], LOWEST_DB)
    highest: NDArray[np.float64] = np.maximum(level.max(axis=0), LOWEST_DB)
    return highest


def expected(
    heard: Spectra, times_s: NDArray[np.float64], known: Mapping[str, Known]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """By how many dB each onset exceeds what the known hits in it leave here: late ``(onsets,
    len(COARSE))`` and early ``(onsets, BANDS)``; NaN where nothing is known."""
    early, late = heard.energy["early"], _coarse(heard.energy["late"])
    if not known:
        return np.full(late.shape, np.nan), np.full(early.shape, np.nan)
    by_early, by_late = 0.5 * heard.energy["before"], 0.5 * _coarse(heard.energy["before"])
    for hits in known.values():
        level = level_at(times_s, hits)
        struck = level > LOWEST_DB
        if struck.sum() < ENOUGH:
            continue
        share = 10 ** (level / 10)
        loud = struck & (level > -12)
        loud = loud if loud.sum() >= ENOUGH else struck
        for seen, by in ((early, by_early), (late, by_late)):
            # Others are struck with it, now and then: the lower of its hits show it alone.
            alone = np.quantile(seen[loud] / share[loud][:, None], 0.3, axis=0)
            by += np.where(struck, share, 0)[:, None] * alone
    return (10 * np.log10(late / (by_late + 1e-14)), 10 * np.log10(early / (by_early + 1e-14)))


def looked_up(
    heard: Spectra, times_s: NDArray[np.float64], share: NDArray[np.float64]
) -> NDArray[np.float32]:
    """``(onsets, 5 * families)``: what the first weighing (``share`` ``(onsets, families)``) says of
    each onset, of those that sound alike and of those around it; how far it is from the mean of those
    that hold the family, and how many do."""
    alike = np.hstack([heard.level_db["early"], 0.5 * heard.level_db["late"]])
    near = scipy.spatial.cKDTree(alike)
    _, rows = near.query(alike, min(ALIKE + 1, len(alike)))
    rows = rows.reshape(len(alike), -1)
    others = share[rows[:, 1:]].mean(axis=1) if rows.shape[1] > 1 else share
    sums = np.vstack([np.zeros(share.shape[1]), np.cumsum(share, axis=0)])
    low = np.searchsorted(times_s, times_s - AROUND_S)
    high = np.searchsorted(times_s, times_s + AROUND_S)
    around = sums[high] - sums[low] - share
    apart = np.full(share.shape, np.nan)
    for n in range(share.shape[1]):
        weight = np.where(share[:, n] > 0.5, share[:, n], 0.0)
        if (weight > 0).sum() >= ENOUGH:
            mean = weight @ alike / weight.sum()
            apart[:, n] = np.sqrt(np.mean((alike - mean) ** 2, axis=1))
    count = np.broadcast_to(np.log2(1 + (share > 0.5).sum(axis=0)), share.shape)
    return np.hstack([share, others, around, apart, count]).astype(np.float32)
