"""Which of the onsets in a piece's own mics are surely its hits, by how far they exceed bleed.

From these it is learned how the drum's hits begin; `weighing` then asks about every onset. Of
cymbals that only overheads hear they are all that is known.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from arkund.core.hits.explain.ownership import Events, Signatures, Standing, standing
from arkund.core.hits.hear.novelty import BANDS, BRIGHT
from arkund.core.kit.roles import is_shell, piece_family

LEAST_EXCESS_DB = 2.6
"""How far a hit must exceed the bleed that is predicted where it is seen."""

SOFT_DB = -18.0
"""Below this level, against loud hits, ever more excess is asked for."""

LOUD_DB = -10.0
"""From here on more excess is asked for too."""

DOUBTFUL_DB = 12.0
"""Excess from which a hit is clear of bleed."""


@dataclass(frozen=True)
class Onset:
    """What may be a hit of one piece, as it stands in its own mics at a ``frame`` (of 1 ms):
    its level against loud hits, how far it exceeds bleed (``clear_db``: in the best of the
    nearest mic's bright bands), in dB. ``trust`` is *sure*, or *own* of a loud
    one that is not clear of bleed; one that is ``alone`` begins when nothing bleeds."""

    frame: int
    level_db: float
    excess_db: float
    clear_db: float
    trust: str
    alone: bool


TIMELY_DB = 4.0
"""How much more excess is asked for of what begins just when another's bleed does."""

OWN_DB = -10.0
"""Level from which a hit that is not clear of bleed may still be the drum's own."""

UNDER_DB = -2.0
"""How far what begins when nothing bleeds may fall short of the bleed that is predicted."""

MOST_OF_CYMBAL_DB = 4.5
"""As much excess as is asked of a cymbal: its mic is full of the snare, yet the two differ in the
bright bands alone."""

SOFT_CYMBAL_DB = -10.5
ALL_OVER_DB = 2.5
"""A drum fills all bands of its mic: what exceeds bleed in a few only is no hit of it."""


ABSENT_DB = -14.0
"""Level down to which a hit is heard by all of its drum's mics."""

HEARD_DB, NOT_HEARD_DB, AGREED_DB = 6.0, 1.0, 3.5
"""Excess in the upper bands of each of a drum's mics: what its clear hits have, what is less than
a hit leaves, and what tells if all mics have it."""


def own_onsets(
    events: Events,
    at: NDArray[np.int64],
    signatures: Signatures,
    piece: int,
    alone: NDArray[np.bool_],
    bleeds: NDArray[np.bool_],
) -> list[Onset]:
    """Those of the candidates ``at`` ``(candidates,)`` that this piece must have caused, and loud ones that it
    may have.

    The piece must account for most of what starts in its own mics, where bleed that the other
    pieces predict is not enough; and the hit must stand above the piece's own rubbish level.
    ``alone`` and ``bleeds`` say which candidates begin when nothing bleeds in, and which just when
    something does.
    """
    name, it = signatures.pieces[piece], standing(events, signatures, piece)
    shell = is_shell(name)
    # Ghosts are looked for close to what bleeds; other hits only above all that may bleed,
    # unless they begin when nothing bleeds.
    excess = np.where((name in ("kick", "snare")) | alone, it.excess_db, it.clear_db)
    level = it.level_db - _loud_db(it, shell)
    floor = -34.0 if shell else -20.0
    clear = _clear_db(it, signatures.own_rows[name])
    fills = ~np.bool_(shell) | (np.median(it.over_db, axis=0) > ALL_OVER_DB)
    needed, strictly = _needed_excess(level, excess, alone & fills)
    if not shell:
        needed = np.minimum(needed, MOST_OF_CYMBAL_DB)
        strictly = np.where(level > SOFT_CYMBAL_DB, needed, strictly)
    timely = bleeds * (TIMELY_DB / 2 if piece_family(name) == "tom" else TIMELY_DB)
    needed, strictly = needed + timely, strictly + timely
    # A loud hit that begins as its drum's others do is never explained away.
    own = (level > OWN_DB) & (it.excess_db > 0) & shell
    if piece_family(name) == "tom":
        own &= fills
    early = alone & fills & (level > OWN_DB) & (it.excess_db > UNDER_DB) & ~own
    absent, agreed = _by_mic(it)
    absent &= ~alone & (level > ABSENT_DB)
    needed = np.where(agreed & shell, np.minimum(needed, LEAST_EXCESS_DB), needed)
    strictly = np.where(agreed & shell, np.minimum(strictly, LEAST_EXCESS_DB), strictly)
    excess = np.where(absent & shell, -np.inf, excess)
    early, own = early & ~absent, own & ~absent
    trust = np.select([(excess > strictly) | early, own], ["sure", "own"], "")
    return [
        Onset(
            int(at[i]),
            float(level[i]),
            float(excess[i]),
            float(clear[i]),
            str(trust[i]),
            bool(alone[i]),
        )
        for i in np.flatnonzero((trust != "") & (level > floor))
    ]


def _by_mic(it: Standing) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Of a drum with several mics, which events one of them does not hear, though it hears this
    drum's clear hits, and which all of them hear above bleed."""
    mics = it.rows // BANDS
    heard = np.array(
        [np.quantile(it.over_db[mics == mic], 0.75, axis=0) for mic in np.unique(mics)]
    )
    nothing = np.zeros(heard.shape[1], np.bool_)
    clear = it.clear_db >= DOUBTFUL_DB
    if len(heard) < 2 or not clear.any():
        return nothing, nothing if len(heard) < 2 else np.all(heard >= AGREED_DB, axis=0)
    hears = np.median(heard[:, clear], axis=1) >= HEARD_DB
    return np.any(heard[hears] < NOT_HEARD_DB, axis=0), np.all(heard >= AGREED_DB, axis=0)


def _loud_db(it: Standing, shell: bool) -> float:
    """Level of a piece's loud hits.

    A tom struck twice is as loud as these two hits, not as what bleeds into its mic all the
    while.
    """
    loudest = np.sort(it.level_db)
    if not len(loudest):
        return 0.0
    loud = float(loudest[-max(4, len(loudest) // 50) :].mean())
    clear = np.sort(it.level_db[it.clear_db >= DOUBTFUL_DB])[-4:]
    return max(loud, float(clear.mean())) if shell and len(clear) else loud


def _clear_db(it: Standing, own: NDArray[np.int64]) -> NDArray[np.float64]:
    """How far each event exceeds bleed in the bright bands of the piece's nearest mic."""
    nearest = own[0] // BANDS
    bright = (it.rows // BANDS == nearest) & (it.rows % BANDS >= BRIGHT)
    return it.over_db[bright].max(axis=0, initial=-np.inf)


def _needed_excess(
    level: NDArray[np.float64], excess: NDArray[np.float64], alone: NDArray[np.bool_]
) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
    """Excess over bleed in dB that each onset must show by its level, and what it must show to be
    believed by that alone.

    Soft hits are believed readily only of a piece of which some stand clear of all bleed: a
    drummer who plays ghosts mostly leaves a few in the open.
    """
    sure = excess > 10
    soft_seen = np.sum(sure & (level < -9)) >= max(6, 0.06 * np.sum(sure))
    needed = LEAST_EXCESS_DB + 3.0 * np.clip((SOFT_DB - level) / 10, 0, 1)
    # A loud hit stands far above bleed; one that hardly does is the bleed of a loud one.
    needed += np.where(alone, -1.0, 3.5) * np.clip((level - LOUD_DB) / 5, 0, 1)
    if soft_seen:
        return needed, needed
    least = np.where(alone, needed, np.where(level < -10.5, 13.0, 6.0))
    return needed, np.maximum(needed, least)
